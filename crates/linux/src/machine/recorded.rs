//! A machine that was asked once, and tells its answers again.

use super::answer::Answer;
use super::door::Machine;
use crate::abilities::Ability;
use crate::addresses::{Link, Way};
use crate::flows::Flow;
use crate::foreign::Foreign;
use crate::programs::{FileKind, Recognition, Standings};
use crate::ruleset::{Callers, Marks, OtherTable, Snapshot, is_program};
use crate::session::Session;
use crate::sockets::{Connection, Listener, Owner, Owners, PortProtocol};
use crate::sys::namespace::Namespace;
use crate::translation::Translations;
use crate::transport::{NetlinkSocket, Protocol};
use crate::watching::Watcher;
use crate::{LinuxError, Reason};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use tipstaff_core::analysis::ProgramFile;
use tipstaff_core::plan::LinkSeen;
use tipstaff_core::policy::Whereabouts;
use tipstaff_core::program::RuleProgram;
use tipstaff_wire::routing_rule::MarkRule;

/// The ways to so many addresses are asked for.
const WAYS: usize = 1_024;

/// What is to be recorded besides what every machine has.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// Settings of the kernel, by their paths.
    pub settings: Vec<String>,
    /// Paths of which matters whether there is something.
    pub paths: Vec<String>,
    /// Programs, by the paths under which rules name them.
    pub programs: BTreeSet<String>,
    /// Users, by the names under which rules name them.
    pub users: BTreeSet<String>,
}

/// The answers of a machine. It can be written down and read again, and is the same machine then.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Recorded {
    name: String,
    release: String,
    generation: Answer<u32>,
    rules: Answer<Option<Snapshot>>,
    others: Answer<Vec<OtherTable>>,
    waiting: Vec<(PortProtocol, Answer<Vec<Listener>>)>,
    under_way: Vec<(PortProtocol, Answer<Vec<Held>>)>,
    owners: BTreeMap<u32, Owner>,
    flows: Answer<Vec<Flow>>,
    links: Answer<Vec<Link>>,
    links_seen: Answer<Vec<LinkSeen>>,
    addresses: Answer<Vec<IpAddr>>,
    mark_rules: Answer<Vec<MarkRule>>,
    ways: Vec<(IpAddr, Answer<Way>)>,
    recognition: Answer<Option<Recognition>>,
    standings: Answer<Standings>,
    lacking_for_programs: Vec<String>,
    programs: BTreeMap<String, AtPath>,
    own_session: Option<Session>,
    sessions_told: Vec<Session>,
    users: BTreeMap<u32, String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    named_users: BTreeMap<String, Answer<Option<u32>>>,
    settings: BTreeMap<String, Result<String, Option<i32>>>,
    paths: BTreeMap<String, bool>,
}

/// A connection, with the number of the file that its socket is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct Held {
    own: SocketAddr,
    peer: SocketAddr,
    established: bool,
    inode: u32,
    #[serde(default)]
    uid: u32,
}

/// What there is at a program's path.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
struct AtPath {
    kind: FileKind,
    file: ProgramFile,
    real: Option<String>,
}

impl Recorded {
    /// Asks a machine everything that use cases ask, and keeps its answers, also its refusals.
    #[must_use]
    pub fn of(machine: &dyn Machine, wanted: &Wanted) -> Self {
        let rules = Answer::of(machine.rules());
        let marks = match &rules {
            Answer::Told(Some(held)) => held.marks.clone(),
            _ => Marks::default(),
        };
        let (mut named, mut users) = (wanted.programs.clone(), wanted.users.clone());
        if let Answer::Told(Some(held)) = &rules {
            let all = held.program.owner_lists().into_iter().flatten();
            let (programs, others): (Vec<_>, Vec<_>) = all.partition(|it| is_program(it));
            named.extend(programs);
            users.extend(others);
        }
        let each = PortProtocol::ALL.into_iter();
        let waiting = each.clone().map(|it| (it, Answer::of(machine.waiting(&[it])))).collect();
        let mut seen = BTreeSet::new();
        let mut under_way = Vec::new();
        for protocol in each {
            let found = machine.under_way(&[protocol]).map(|list| {
                list.into_iter().map(|it| {
                    seen.insert(it.socket.inode);
                    let (own, peer, inode) = (it.own, it.peer, it.socket.inode);
                    Held { own, peer, established: it.established, inode, uid: it.uid() }
                })
            });
            under_way.push((protocol, Answer::of(found.map(Iterator::collect::<Vec<_>>))));
        }
        let mut owners: BTreeMap<u32, Owner> = machine.owners().0.into_iter().collect();
        owners.retain(|inode, _| seen.contains(inode));
        let flows = Answer::of(machine.flows());
        let (own_session, sessions_told) = (machine.own_session(), machine.sessions_told());
        let mut recorded = Self {
            name: machine.name(),
            release: machine.release(),
            generation: Answer::of(machine.generation()),
            rules,
            others: Answer::of(machine.others()),
            waiting,
            under_way,
            owners,
            flows,
            links: Answer::of(machine.links()),
            links_seen: Answer::of(machine.links_seen()),
            addresses: Answer::of(machine.addresses()),
            mark_rules: Answer::of(machine.mark_rules()),
            ways: Vec::new(),
            recognition: Answer::of(machine.recognition()),
            standings: Answer::of(machine.standings(&marks)),
            lacking_for_programs: machine.lacking_for_programs(),
            programs: named.into_iter().map(|path| at_path(machine, path)).collect(),
            own_session,
            sessions_told,
            users: BTreeMap::new(),
            named_users: BTreeMap::new(),
            settings: wanted.settings.iter().map(|it| (it.clone(), setting(machine, it))).collect(),
            paths: wanted.paths.iter().map(|it| (it.clone(), machine.has(it))).collect(),
        };
        let ends = recorded.far_ends().into_iter().take(WAYS);
        recorded.ways = ends.map(|it| (it, Answer::of(machine.way_to(it)))).collect();
        let uids = recorded.uids();
        recorded.users = machine.users();
        recorded.users.retain(|uid, _| uids.contains(uid));
        let number = |it: String| (it.clone(), Answer::of(machine.user_number(&it)));
        recorded.named_users = users.into_iter().map(number).collect();
        recorded
    }

    /// The addresses of whoever this machine speaks with.
    fn far_ends(&self) -> BTreeSet<IpAddr> {
        let mut found = BTreeSet::new();
        for (_, held) in &self.under_way {
            if let Answer::Told(held) = held {
                found.extend(held.iter().map(|it| it.peer.ip()));
            }
        }
        if let Answer::Told(flows) = &self.flows {
            found.extend(flows.iter().flat_map(|it| [it.source, it.destination]));
        }
        found.extend(self.own_session.iter().chain(&self.sessions_told).map(|it| it.client));
        found
    }

    /// The users whose sockets wait.
    fn uids(&self) -> BTreeSet<u32> {
        let told = self.waiting.iter().filter_map(|it| match &it.1 {
            Answer::Told(list) => Some(list),
            _ => None,
        });
        told.flatten().map(|it| it.uid).collect()
    }
}

fn at_path(machine: &dyn Machine, path: String) -> (String, AtPath) {
    let real = machine.real_path(&path).map(|it| it.to_string_lossy().into_owned());
    let (kind, file) = (machine.file_kind(&path), machine.program_file(&path));
    (path, AtPath { kind, file, real })
}

fn setting(machine: &dyn Machine, path: &str) -> Result<String, Option<i32>> {
    machine.setting(path).map_err(|error| error.raw_os_error())
}

/// The answers for some protocols, as one list; the first refusal is theirs.
fn together<T: Clone>(
    answers: &[(PortProtocol, Answer<Vec<T>>)],
    protocols: &[PortProtocol],
) -> Result<Vec<(PortProtocol, T)>, LinuxError> {
    let mut found = Vec::new();
    for &protocol in protocols {
        let answer = answers.iter().find(|it| it.0 == protocol);
        let list = match answer {
            Some((_, answer)) => answer.again()?,
            None => Answer::not_recorded("list sockets").again()?,
        };
        found.extend(list.into_iter().map(|it| (protocol, it)));
    }
    Ok(found)
}

fn only_recorded(doing: &str) -> LinuxError {
    let reason = Reason::recorded(Some(libc::EROFS), "only its answers were kept".into());
    LinuxError::Refused { doing: doing.into(), reason }
}

impl Machine for Recorded {
    fn rules(&self) -> Result<Option<Snapshot>, LinuxError> {
        self.rules.again()
    }

    /// Who came to a machine is nobody else's business: it is not written down.
    fn callers(&self) -> Result<Option<Callers>, LinuxError> {
        Err(LinuxError::Refused {
            doing: "read who came".into(),
            reason: "that is not written down of a machine".into(),
        })
    }

    fn foreign(&self) -> Result<Foreign, LinuxError> {
        Answer::not_recorded("tell others' rules").again()
    }

    fn translations(&self) -> Result<Translations, LinuxError> {
        // The rules themselves are not written down, only whether any do.
        match self.others.again()?.iter().any(|it| it.leads) {
            false => Ok(Translations::default()),
            true => Answer::not_recorded("tell where packets are led").again(),
        }
    }

    fn generation(&self) -> Result<u32, LinuxError> {
        self.generation.again()
    }

    fn others(&self) -> Result<Vec<OtherTable>, LinuxError> {
        self.others.again()
    }

    fn waiting(&self, protocols: &[PortProtocol]) -> Result<Vec<Listener>, LinuxError> {
        let mut found: Vec<Listener> =
            together(&self.waiting, protocols)?.into_iter().map(|it| it.1).collect();
        found.sort_by_key(|it| (it.port, it.protocol, it.address));
        Ok(found)
    }

    fn under_way(&self, protocols: &[PortProtocol]) -> Result<Vec<Connection>, LinuxError> {
        let found = together(&self.under_way, protocols)?.into_iter();
        Ok(found
            .map(|(protocol, it)| {
                Connection::remembered(
                    protocol,
                    (it.own, it.peer),
                    it.established,
                    (it.inode, it.uid),
                )
            })
            .collect())
    }

    fn owners(&self) -> Owners {
        Owners(self.owners.clone().into_iter().collect())
    }

    fn flows(&self) -> Result<Vec<Flow>, LinuxError> {
        self.flows.again()
    }

    fn links(&self) -> Result<Vec<Link>, LinuxError> {
        self.links.again()
    }

    fn links_seen(&self) -> Result<Vec<LinkSeen>, LinuxError> {
        self.links_seen.again()
    }

    fn whereabouts(&self) -> Result<Whereabouts, LinuxError> {
        Answer::not_recorded("tell where the machine is").again()
    }

    fn addresses(&self) -> Result<Vec<IpAddr>, LinuxError> {
        self.addresses.again()
    }

    fn mark_rules(&self) -> Result<Vec<MarkRule>, LinuxError> {
        self.mark_rules.again()
    }

    fn way_to(&self, address: IpAddr) -> Result<Way, LinuxError> {
        match self.ways.iter().find(|it| it.0 == address) {
            Some((_, answer)) => answer.again(),
            None => Answer::not_recorded("look up a route").again(),
        }
    }

    fn recognition(&self) -> Result<Option<Recognition>, LinuxError> {
        self.recognition.again()
    }

    fn standings(&self, _: &Marks) -> Result<Standings, LinuxError> {
        self.standings.again()
    }

    fn lacking_for_programs(&self) -> Vec<String> {
        self.lacking_for_programs.clone()
    }

    fn file_kind(&self, path: &str) -> FileKind {
        self.programs.get(path).map_or(FileKind::Missing, |it| it.kind.clone())
    }

    fn program_file(&self, path: &str) -> ProgramFile {
        self.programs.get(path).map_or(ProgramFile::Missing, |it| it.file.clone())
    }

    fn real_path(&self, path: &str) -> Option<PathBuf> {
        self.programs.get(path)?.real.as_ref().map(PathBuf::from)
    }

    fn own_session(&self) -> Option<Session> {
        self.own_session
    }

    fn sessions_told(&self) -> Vec<Session> {
        self.sessions_told.clone()
    }

    fn users(&self) -> BTreeMap<u32, String> {
        self.users.clone()
    }

    fn user_number(&self, user: &str) -> Result<Option<u32>, LinuxError> {
        match self.named_users.get(user) {
            Some(answer) => answer.again(),
            None => Answer::not_recorded("look up a user").again(),
        }
    }

    fn setting(&self, path: &str) -> io::Result<String> {
        match self.settings.get(path) {
            Some(Ok(text)) => Ok(text.clone()),
            Some(Err(Some(errno))) => Err(io::Error::from_raw_os_error(*errno)),
            Some(Err(None)) => Err(io::Error::other("it could not be read")),
            None => Err(io::Error::other("it was not recorded")),
        }
    }

    fn has(&self, path: &str) -> bool {
        self.paths.get(path).copied().unwrap_or(false)
    }

    fn name(&self) -> String {
        self.name.clone()
    }

    fn release(&self) -> String {
        self.release.clone()
    }

    fn abilities(&self, _: &str, _: &RuleProgram) -> Result<Vec<Ability>, LinuxError> {
        Answer::not_recorded("try what the kernel can do").again()
    }

    fn namespace(&self) -> Result<Namespace, LinuxError> {
        Err(only_recorded("enter a recorded machine"))
    }

    fn reports_are_taken(&self) -> Result<bool, LinuxError> {
        Err(only_recorded("see who takes reports on a recorded machine"))
    }

    fn watch(&self, _: bool) -> Result<Box<dyn Watcher>, LinuxError> {
        Err(only_recorded("watch a recorded machine"))
    }

    fn channel(&self, _: Protocol) -> Result<NetlinkSocket, LinuxError> {
        Err(only_recorded("change a recorded machine"))
    }
}
