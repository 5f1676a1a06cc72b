//! What a use case may ask of a machine.

use crate::abilities::Ability;
use crate::addresses::{Link, Way};
use crate::flows::Flow;
use crate::foreign::Foreign;
use crate::programs::{FileKind, Recognition, Standings};
use crate::ruleset::{Callers, Marks, OtherTable, Snapshot};
use crate::session::Session;
use crate::sockets::{Connection, Listener, Owner, Owners, PortProtocol, Waiting};
use crate::sys::namespace::Namespace;
use crate::translation::Translations;
use crate::transport::Protocol;
use crate::watching::Watcher;
use crate::{LinuxError, NetlinkSocket};
use std::collections::BTreeMap;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use tipstaff_core::analysis::ProgramFile;
use tipstaff_core::plan::LinkSeen;
use tipstaff_core::policy::{Taken, Whereabouts};
use tipstaff_core::program::RuleProgram;
use tipstaff_wire::routing_rule::MarkRule;

/// A machine, as far as use cases ask about it. Every answer that can be refused says so: what cannot be read
/// is never taken for nothing.
pub trait Machine: Sync {
    /// Our table, as the kernel holds it; `None` if it is not there.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    fn rules(&self) -> Result<Option<Snapshot>, LinuxError>;

    /// The host whose rules decide, without reading them all; `None` if it takes [`Machine::rules`] to tell whether any
    /// do.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    fn glance(&self) -> Result<Option<String>, LinuxError> {
        let decides = |it: &Snapshot| {
            let mut entered = it.program.chains.iter().filter(|it| it.base.is_some());
            !it.dormant && entered.any(|it| !it.rules.is_empty())
        };
        Ok(self.rules()?.filter(decides).map(|it| it.host))
    }

    /// The host whose rules are in force, and the posture that they are in; `None`: in none.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    fn posture(&self) -> Result<Option<(String, Taken)>, LinuxError> {
        Ok(self.rules()?.and_then(|it| Some((it.host, it.program.taken?))))
    }

    /// Who came, as far as the kernel remembers; `None` if it is to remember nothing.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    fn callers(&self) -> Result<Option<Callers>, LinuxError>;

    /// The number of the last change of the kernel's rules, ours or others'.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read: who may not ask this may not read rules.
    fn generation(&self) -> Result<u32, LinuxError>;

    /// The tables of others that have chains which packets enter.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    fn others(&self) -> Result<Vec<OtherTable>, LinuxError>;

    /// What others have of rules that let packets pass or keep them out.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    fn foreign(&self) -> Result<Foreign, LinuxError>;

    /// What others translate of packets on their way in.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    fn translations(&self) -> Result<Translations, LinuxError>;

    /// For each of these ends the process that waits there in another network namespace of this machine, such as a
    /// container's, as far as it may be looked into.
    fn waiting_within(&self, targets: &[(PortProtocol, SocketAddr)]) -> Vec<Option<Owner>> {
        vec![None; targets.len()]
    }

    /// The sockets of some protocols that wait for traffic, by port.
    ///
    /// # Errors
    /// [`LinuxError`] if those of one of the protocols cannot be listed.
    fn waiting(&self, protocols: &[PortProtocol]) -> Result<Vec<Listener>, LinuxError>;

    /// The same sockets, without the processes that hold them: those take far longer to find.
    ///
    /// # Errors
    /// As for [`Machine::waiting`].
    fn waiting_unowned(&self, protocols: &[PortProtocol]) -> Result<Vec<Waiting>, LinuxError> {
        let one = |it: Listener| Waiting {
            protocol: it.protocol,
            address: it.address,
            port: it.port,
            inode: 0,
        };
        Ok(self.waiting(protocols)?.into_iter().map(one).collect())
    }

    /// The connections of some protocols, also TCP connections that are being opened or closed.
    ///
    /// # Errors
    /// [`LinuxError`] if those of one of the protocols cannot be listed.
    fn under_way(&self, protocols: &[PortProtocol]) -> Result<Vec<Connection>, LinuxError>;

    /// The processes that hold sockets; of others than the caller's own as far as one may look.
    fn owners(&self) -> Owners;

    /// The flows that the kernel keeps track of.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read, or keeps track of nothing.
    fn flows(&self) -> Result<Vec<Flow>, LinuxError>;

    /// The links that are switched on, without the loopback one, with their addresses.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    fn links(&self) -> Result<Vec<Link>, LinuxError>;

    /// The interfaces, as rules have to know them.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    fn links_seen(&self) -> Result<Vec<LinkSeen>, LinuxError>;

    /// Where it is, by what its links and neighbours say.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read, or there is no machine that is anywhere now.
    fn whereabouts(&self) -> Result<Whereabouts, LinuxError>;

    /// The addresses of all links.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    fn addresses(&self) -> Result<Vec<IpAddr>, LinuxError>;

    /// The routing rules that look at marks.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    fn mark_rules(&self) -> Result<Vec<MarkRule>, LinuxError>;

    /// Where packets to an address go.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us ask.
    fn way_to(&self, address: IpAddr) -> Result<Way, LinuxError>;

    /// Whether anything may recognise programs here; not to be asked of who may not look, which is told so.
    fn may_recognise(&self) -> bool {
        true
    }

    /// What recognises programs here; `None` if nothing of ours does.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us look.
    fn recognition(&self) -> Result<Option<Recognition>, LinuxError>;

    /// How things stand with the programs that the rules in force name, by the numbers that those rules have
    /// for them.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us look.
    fn standings(&self, marks: &Marks) -> Result<Standings, LinuxError>;

    /// What rules that name programs would need and the machine lacks, as ends of sentences; empty if they can be
    /// enforced.
    fn lacking_for_programs(&self) -> Vec<String>;

    /// What can be run at a path.
    fn file_kind(&self, path: &str) -> FileKind;

    /// What there is at the path of a program, and who can change it.
    fn program_file(&self, path: &str) -> ProgramFile;

    /// The path without links; `None` if there is nothing, or it may not be looked at.
    fn real_path(&self, path: &str) -> Option<PathBuf>;

    /// The remote shell session that the caller belongs to, as its environment tells.
    fn own_session(&self) -> Option<Session>;

    /// The remote shell sessions of all processes that the caller may look into, as their environments tell;
    /// some may have ended long ago.
    fn sessions_told(&self) -> Vec<Session>;

    /// The names of users, by their numbers.
    fn users(&self) -> BTreeMap<u32, String>;

    /// The number of a user, by name or number; `None` if the machine's list has no such name.
    ///
    /// # Errors
    /// [`LinuxError`] if the list cannot be read.
    fn user_number(&self, user: &str) -> Result<Option<u32>, LinuxError>;

    /// The text of one of the kernel's settings.
    ///
    /// # Errors
    /// The system's.
    fn setting(&self, path: &str) -> io::Result<String>;

    /// Whether there is something at a path.
    fn has(&self, path: &str) -> bool;

    /// The name that the machine goes by.
    fn name(&self) -> String;

    /// The kernel's name for itself.
    fn release(&self) -> String;

    /// What this kernel can do for a host's rules, as found by trying it.
    ///
    /// # Errors
    /// [`LinuxError`] if nothing can be tried here.
    fn abilities(&self, host: &str, program: &RuleProgram) -> Result<Vec<Ability>, LinuxError>;

    /// Its network namespace, for what is copied or tried from within.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses, or there is no machine that could be entered.
    fn namespace(&self) -> Result<Namespace, LinuxError>;

    /// Whether anybody takes the reports of our rules.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us look, or there is no machine that reports anything now.
    fn reports_are_taken(&self) -> Result<bool, LinuxError>;

    /// Watches decisions as they are made: those that the policy has the kernel report (`logged`), or all.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel refuses, or there is no machine that decides anything now.
    fn watch(&self, logged: bool) -> Result<Box<dyn Watcher>, LinuxError>;

    /// A conversation with the kernel, for what changes something.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses, or there is no machine that could be changed.
    fn channel(&self, protocol: Protocol) -> Result<NetlinkSocket, LinuxError>;
}

/// Sockets, and which could not be listed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listed<T> {
    /// Those that could be listed.
    pub found: Vec<T>,
    /// The protocols whose sockets could not be listed, and why.
    pub unlisted: Vec<(PortProtocol, String)>,
}

impl<T> Listed<T> {
    /// Lists the sockets of each protocol. Those of TCP and UDP have to be had; of others a kernel may have no list,
    /// though it has the protocol.
    fn of(
        list: impl Fn(&[PortProtocol]) -> Result<Vec<T>, LinuxError>,
    ) -> Result<Self, LinuxError> {
        let (always, others): (Vec<_>, Vec<_>) = PortProtocol::ALL
            .into_iter()
            .partition(|it| matches!(it, PortProtocol::Tcp | PortProtocol::Udp));
        let mut listed = Self { found: list(&always)?, unlisted: Vec::new() };
        for protocol in others {
            match list(&[protocol]) {
                Ok(found) => listed.found.extend(found),
                Err(error @ LinuxError::Refused { .. }) => {
                    listed.unlisted.push((protocol, error.to_string()));
                }
                Err(error) => return Err(error),
            }
        }
        Ok(listed)
    }

    /// What could not be seen, as parts of a list.
    pub fn unseen(&self) -> impl Iterator<Item = String> {
        self.unlisted.iter().map(|(protocol, why)| format!("what speaks {protocol}: {why}"))
    }
}

impl dyn Machine + '_ {
    /// Everything that waits for traffic.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    pub fn listeners(&self) -> Result<Listed<Listener>, LinuxError> {
        let mut listed = Listed::of(|protocols| self.waiting(protocols))?;
        listed.found.sort_by_key(|it| (it.port, it.protocol, it.address));
        Ok(listed)
    }

    /// Everything that waits for traffic, without the processes that hold it.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    pub fn unowned_listeners(&self) -> Result<Vec<Waiting>, LinuxError> {
        Ok(Listed::of(|protocols| self.waiting_unowned(protocols))?.found)
    }

    /// Those listeners of which the kernel can tell that a packet is theirs.
    ///
    /// # Errors
    /// As for the listeners, but not where only sockets of other protocols cannot be listed.
    pub fn receivers(&self) -> Result<Vec<Listener>, LinuxError> {
        let known = PortProtocol::ALL.into_iter().filter(|it| it.has_known_receivers());
        self.waiting(&known.collect::<Vec<_>>())
    }

    /// The connections, also TCP connections that are being opened or closed.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    pub fn open_connections(&self) -> Result<Listed<Connection>, LinuxError> {
        Listed::of(|protocols| self.under_way(protocols))
    }

    /// The connections that stand.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    pub fn connections(&self) -> Result<Listed<Connection>, LinuxError> {
        let mut listed = self.open_connections()?;
        listed.found.retain(|it| it.established);
        Ok(listed)
    }

    /// The TCP connections that stand, such as those of remote shell sessions.
    ///
    /// # Errors
    /// As for the connections, but not where only sockets of other protocols cannot be listed.
    pub fn streams(&self) -> Result<Vec<Connection>, LinuxError> {
        let mut found = self.under_way(&[PortProtocol::Tcp])?;
        found.retain(|it| it.established);
        Ok(found)
    }
}
