//! What is known of a machine, as far as findings about it need it.

use super::super::reopening::Session;
use crate::plan::{Decision, HostPlan, Kind, Placed, RuleId};
use crate::policy::{Host, Policy};
use crate::space::{AddressSet, Direction, PortProtocol, TrafficSet};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};

/// What is known of a machine.
#[derive(Clone, Debug, Default)]
pub struct Facts {
    /// What listens, by port.
    pub listeners: Vec<Listener>,
    /// Protocols of which nobody knows what listens.
    pub unlisted: Vec<PortProtocol>,
    /// Ports that others lead elsewhere, and what becomes there of whoever comes.
    pub published: Vec<Published>,
    /// The connections that live now.
    pub contacts: Vec<Contact>,
    /// The remote shell session that asks, if it came from another machine.
    pub session: Option<Session>,
    /// What there is at the paths that rules name.
    pub files: BTreeMap<String, ProgramFile>,
    /// The numbers of the users that rules name; `None` for who is not known here.
    pub users: BTreeMap<String, Option<u32>>,
    /// How the interfaces stand that rules name.
    pub placed: Vec<Placed>,
    /// Rates per source that had no room for some senders, with how many packets of those came.
    pub crowded: Vec<(RuleId, u64)>,
    /// Where routing looks at marks.
    pub routing: Vec<RoutingMark>,
    /// Who used each rule that allows something, where that is remembered, and no packet found it full.
    pub uses: Vec<Use>,
    /// Whether accepted connections get their mark from a packet (`net.ipv4.tcp_fwmark_accept`).
    pub marked_by_packets: bool,
}

/// A socket that waits for traffic.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listener {
    /// The protocol that it speaks.
    pub protocol: PortProtocol,
    /// The port that it waits at.
    pub port: u16,
    /// The address that it is bound to.
    pub address: IpAddr,
    /// The number of its process, if that is known.
    pub pid: Option<u32>,
    /// The file that the process runs, if that is known.
    pub program: Option<String>,
    /// The same by the name that rules have for it.
    pub known: Option<String>,
    /// The number of the user who made its socket, if that is known.
    pub uid: Option<u32>,
}

/// Ports of this machine that rules of others lead elsewhere.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Published {
    /// The protocol.
    pub protocol: PortProtocol,
    /// The first and the last of them.
    pub ports: (u16, u16),
    /// The table that leads them.
    pub by: String,
    /// Where they lead, as address and port.
    pub to: SocketAddr,
    /// Which packets the policy takes them for there.
    pub direction: Direction,
    /// What decides about them there.
    pub decided_by: RuleId,
    /// Whether it lets them through.
    pub open: bool,
}

/// A connection that stands now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Contact {
    /// The protocol that it uses.
    pub protocol: PortProtocol,
    /// The port of this machine.
    pub port: u16,
    /// Who is at the other end.
    pub peer: IpAddr,
}

/// Who used a rule that allows something.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Use {
    /// The rule.
    pub rule: RuleId,
    /// For so many seconds it has meant what it means now, and all whom it admitted are remembered.
    pub seconds: u64,
    /// Who they are: senders, or of outbound packets receivers.
    pub by: AddressSet,
}

impl Use {
    /// Less than this tells nothing about a rule, in seconds.
    const SHORTEST: u64 = 86_400;

    /// Whether it is long enough to tell something about the rule.
    pub(crate) fn is_telling(&self) -> bool {
        self.seconds >= Self::SHORTEST
    }
}

/// What there is at a path.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ProgramFile {
    /// Nothing, or no regular file.
    Missing,
    /// A file that may not be executed.
    NotExecutable,
    /// A text that another program runs.
    Script {
        /// The program that its first line names.
        interpreter: String,
    },
    /// A file that can be run.
    Program {
        /// Its path without links; `None` if that could not be found.
        real: Option<String>,
        /// How many names the file has.
        names: u64,
        /// Who else than root can write what it runs from, and where; the user's number, if it is one
        /// user.
        writable: Option<(Option<u32>, String)>,
    },
}

/// A rule of routing that looks at marks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct RoutingMark {
    /// The mark that is compared with.
    pub mark: u32,
    /// Its bits that are looked at.
    pub mask: u32,
    /// Whether it routes IPv6, rather than IPv4.
    pub v6: bool,
    /// Its place in the order.
    pub priority: u32,
}

/// A machine beside the policy that is for it.
pub(super) struct Machine<'p> {
    /// The policy that is looked at.
    pub policy: &'p Policy,
    /// What the policy says of the host.
    pub host: &'p Host,
    /// What that comes to for the host.
    pub plan: &'p HostPlan,
    /// What is known of the machine.
    pub facts: &'p Facts,
}

impl Listener {
    /// Whether others than this machine can reach it, as far as it goes.
    pub(crate) fn for_others(&self) -> bool {
        !self.address.is_loopback()
    }

    /// Whether some of the traffic comes to it.
    pub fn hears(&self, traffic: &TrafficSet) -> bool {
        traffic.ports[self.protocol].contains(self.port)
    }

    /// The last part of its program's path.
    pub(crate) fn program_name(&self) -> Option<&str> {
        self.program.as_deref()?.rsplit('/').next()
    }

    /// Whether an active rule is about what it hears in particular.
    pub(crate) fn is_mentioned(&self, decisions: &[Decision]) -> bool {
        decisions.iter().any(|decision| {
            decision.id.kind != Kind::Default
                && decision.idle.is_none()
                && decision
                    .conditions
                    .iter()
                    // What takes everything mentions nothing in particular.
                    .any(|it| !it.traffic.is_any() && self.hears(&it.traffic))
        })
    }
}

/// Programs that serve remote shells go by such names.
const SHELLS: [&str; 2] = ["sshd", "dropbear"];

/// Whether a program of that name serves remote shells.
pub(crate) fn is_shell(program: &str) -> bool {
    SHELLS.contains(&program)
}
