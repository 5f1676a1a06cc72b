//! The machine before us.

use super::door::Machine;
use super::within;
use crate::LinuxError;
use crate::abilities::{Ability, abilities};
use crate::addresses::{self, Link, Way};
use crate::flows::{Flow, flows};
use crate::foreign::{self, Foreign};
use crate::kernel::release;
use crate::programs::{self, FileKind, Recognition, Standings};
use crate::ruleset::{self, Callers, Marks, OtherTable, Snapshot};
use crate::session::{self, Session};
use crate::sockets::{self, Connection, Listener, Owner, Owners, PortProtocol, Waiting};
use crate::sys::namespace::Namespace;
use crate::taken;
use crate::translation::Translations;
use crate::transport::{NetlinkSocket, Protocol};
use crate::users::{user_number, users};
use crate::watching::{Logged, Watch, Watcher};
use crate::whereabouts::whereabouts;
use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::{fs, io};
use tipstaff_core::analysis::ProgramFile;
use tipstaff_core::plan::LinkSeen;
use tipstaff_core::policy::{Taken, Whereabouts};
use tipstaff_core::program::RuleProgram;
use tipstaff_wire::routing_rule::MarkRule;

/// The machine before us, as the calling thread's network namespace shows it.
#[derive(Clone, Copy, Debug, Default)]
pub struct Here;

fn netfilter() -> Result<NetlinkSocket, LinuxError> {
    NetlinkSocket::open(Protocol::Netfilter)
}

fn diagnosis() -> Result<NetlinkSocket, LinuxError> {
    NetlinkSocket::open(Protocol::SocketDiagnosis)
}

fn routes() -> Result<NetlinkSocket, LinuxError> {
    NetlinkSocket::open(Protocol::Route)
}

impl Machine for Here {
    fn rules(&self) -> Result<Option<Snapshot>, LinuxError> {
        ruleset::read(&mut netfilter()?)
    }

    fn glance(&self) -> Result<Option<String>, LinuxError> {
        ruleset::glance(&mut netfilter()?)
    }

    fn posture(&self) -> Result<Option<(String, Taken)>, LinuxError> {
        ruleset::taken(&mut netfilter()?)
    }

    fn callers(&self) -> Result<Option<Callers>, LinuxError> {
        ruleset::callers(&mut netfilter()?)
    }

    fn foreign(&self) -> Result<Foreign, LinuxError> {
        foreign::foreign(&mut netfilter()?, &mut routes()?)
    }

    fn translations(&self) -> Result<Translations, LinuxError> {
        Translations::read(&mut netfilter()?, self.links()?)
    }

    fn waiting_within(&self, targets: &[(PortProtocol, SocketAddr)]) -> Vec<Option<Owner>> {
        within::waiting(targets)
    }

    fn generation(&self) -> Result<u32, LinuxError> {
        ruleset::generation(&mut netfilter()?)
    }

    fn others(&self) -> Result<Vec<OtherTable>, LinuxError> {
        ruleset::others(&mut netfilter()?)
    }

    fn waiting(&self, protocols: &[PortProtocol]) -> Result<Vec<Listener>, LinuxError> {
        sockets::waiting(&mut diagnosis()?, protocols)
    }

    fn waiting_unowned(&self, protocols: &[PortProtocol]) -> Result<Vec<Waiting>, LinuxError> {
        sockets::waiting_unowned(&mut diagnosis()?, protocols)
    }

    fn under_way(&self, protocols: &[PortProtocol]) -> Result<Vec<Connection>, LinuxError> {
        sockets::under_way(&mut diagnosis()?, protocols)
    }

    fn owners(&self) -> Owners {
        Owners::look()
    }

    fn flows(&self) -> Result<Vec<Flow>, LinuxError> {
        flows(&mut netfilter()?)
    }

    fn links(&self) -> Result<Vec<Link>, LinuxError> {
        addresses::links(&mut routes()?)
    }

    fn links_seen(&self) -> Result<Vec<LinkSeen>, LinuxError> {
        addresses::links_seen(&mut routes()?)
    }

    fn whereabouts(&self) -> Result<Whereabouts, LinuxError> {
        whereabouts(&mut routes()?)
    }

    fn addresses(&self) -> Result<Vec<IpAddr>, LinuxError> {
        addresses::addresses(&mut routes()?)
    }

    fn mark_rules(&self) -> Result<Vec<MarkRule>, LinuxError> {
        addresses::mark_rules(&mut routes()?)
    }

    fn way_to(&self, address: IpAddr) -> Result<Way, LinuxError> {
        addresses::way_to(&mut routes()?, address)
    }

    fn may_recognise(&self) -> bool {
        programs::may_recognise()
    }

    fn recognition(&self) -> Result<Option<Recognition>, LinuxError> {
        programs::read()
    }

    fn standings(&self, marks: &Marks) -> Result<Standings, LinuxError> {
        programs::look(marks)
    }

    fn lacking_for_programs(&self) -> Vec<String> {
        programs::lacking()
    }

    fn file_kind(&self, path: &str) -> FileKind {
        programs::kind_of(Path::new(path))
    }

    fn program_file(&self, path: &str) -> ProgramFile {
        programs::file_at(path)
    }

    fn real_path(&self, path: &str) -> Option<PathBuf> {
        fs::canonicalize(path).ok()
    }

    fn own_session(&self) -> Option<Session> {
        session::own()
    }

    fn sessions_told(&self) -> Vec<Session> {
        session::told()
    }

    fn users(&self) -> BTreeMap<u32, String> {
        users()
    }

    fn user_number(&self, user: &str) -> Result<Option<u32>, LinuxError> {
        user_number(user)
    }

    fn setting(&self, path: &str) -> io::Result<String> {
        fs::read_to_string(path)
    }

    fn has(&self, path: &str) -> bool {
        fs::exists(path).unwrap_or(false)
    }

    fn name(&self) -> String {
        rustix::system::uname().nodename().to_string_lossy().into_owned()
    }

    fn release(&self) -> String {
        release()
    }

    fn abilities(&self, host: &str, program: &RuleProgram) -> Result<Vec<Ability>, LinuxError> {
        Ok(abilities(host, program))
    }

    fn namespace(&self) -> Result<Namespace, LinuxError> {
        Namespace::current()
    }

    fn reports_are_taken(&self) -> Result<bool, LinuxError> {
        taken::reports_are_taken()
    }

    fn watch(&self, logged: bool) -> Result<Box<dyn Watcher>, LinuxError> {
        Ok(if logged { Box::new(Logged::open()?) } else { Box::new(Watch::open()?) })
    }

    fn channel(&self, protocol: Protocol) -> Result<NetlinkSocket, LinuxError> {
        NetlinkSocket::open(protocol)
    }
}
