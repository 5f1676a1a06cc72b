//! The policy's word and the kernel's word about a listener.

use super::senders::Column;
use super::words::Part;
use crate::led::{Led, Ways, end_words};
use crate::vocabulary as say;
use crate::{By, Loaded};
use std::net::IpAddr;
use tipstaff_core::plan::{self, Decided, Decider, HostPlan, Question, sweep};
use tipstaff_core::policy::{Time, Verdict};
use tipstaff_core::program::RuleProgram;
use tipstaff_core::space::{
    AddressSet, ConnectionState, Direction, Family, Packet, Relation, Transport,
};
use tipstaff_linux::ruleset::{Marks, Snapshot, Whose};
use tipstaff_linux::sockets::{Listener, PortProtocol};

const CLIENT_PORT: u16 = 49_152;
/// An echo request over IPv4 (RFC 792).
const ECHO_REQUEST: u8 = 8;
/// RFC 4443 section 4.1.
const ECHO_REQUEST_V6: u8 = 128;
/// What an interface that no rule names is called.
const ANOTHER: &str = "another";

/// The kernel as a witness.
#[derive(Debug)]
pub(crate) enum Kernel {
    /// It may not be asked.
    Unreadable,
    /// Our table is not there, or asleep: our rules stop nothing.
    NothingInForce,
    /// What our table says, and the numbers by which it knows whose sockets are.
    Rules(Box<RuleProgram>, Marks),
}

impl Kernel {
    /// What was read from the kernel; rules that have ended by now decide nothing.
    pub(crate) fn of(snapshot: Option<Snapshot>, now: Time) -> Self {
        match snapshot {
            Some(snapshot) if !snapshot.dormant => {
                Self::Rules(Box::new(snapshot.program.at(now)), snapshot.marks)
            }
            _ => Self::NothingInForce,
        }
    }

    fn ask(&self, packet: &Packet) -> Word {
        match self {
            Self::Unreadable => Word::Unknown,
            Self::NothingInForce => Word::NoRules,
            Self::Rules(program, _) => {
                program.evaluate(packet).map_or(Word::Unknown, Word::Decided)
            }
        }
    }

    /// Whose a listener's socket is by the kernel's rules: not who holds it, but whose number is in its
    /// mark. `None` if the kernel does not show marks.
    pub(crate) fn marked(&self, listener: &Listener) -> Option<Whose> {
        let Self::Rules(_, marks) = self else { return None };
        let mark = listener.mark.filter(|_| marks.mask != 0)?;
        Some(marks.whose(mark))
    }
}

/// What the kernel's own rules say of a packet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Word {
    /// Its rules come to this decision.
    Decided(Decided),
    /// It has no rules of ours, so they stop nothing.
    NoRules,
    /// It cannot be told.
    Unknown,
}

impl Word {
    fn verdict(&self) -> Option<Verdict> {
        match self {
            Self::Decided(decided) => Some(decided.verdict),
            Self::NoRules => Some(Verdict::Allow),
            Self::Unknown => None,
        }
    }
}

/// Policy and kernel on one packet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Fate {
    /// What the policy says of them.
    pub policy: Decided,
    /// What the kernel's rules say of them.
    pub kernel: Word,
    /// Where others lead them first, if they do.
    pub led: Option<Led>,
    /// Which way they go there.
    pub direction: Direction,
}

/// Senders that fare alike, with what they fare.
#[derive(Clone, Debug)]
pub(crate) struct Fares {
    /// The senders that all fare like this.
    pub senders: AddressSet,
    /// The host's addresses at which they do.
    pub receivers: Vec<IpAddr>,
    /// The IP version that they use.
    pub family: Family,
    /// By which interfaces they come, `None` standing for one that no rule names; all if empty.
    pub interfaces: Vec<Option<String>>,
    /// What their packets meet here.
    pub fate: Fate,
}

impl Fares {
    /// In words, before anything was observed.
    pub(crate) fn words(&self, plan: &HostPlan, column: &Column) -> Part {
        let Fate { policy, kernel, led, .. } = &self.fate;
        let not_known = matches!(led, Some(Led::NotKnown(..)));
        let kernel_by = match kernel {
            Word::Decided(decided) if decided.by != policy.by => Some(decided.by.to_string()),
            _ => None,
        };
        Part {
            senders: column.words(&self.senders),
            receivers: self.receivers.iter().map(ToString::to_string).collect(),
            interfaces: match &self.interfaces[..] {
                [] => None,
                some => Some(
                    some.iter().map(|it| it.clone().unwrap_or_else(|| ANOTHER.into())).collect(),
                ),
            },
            policy: if not_known { say::Word::Unknown } else { policy.verdict.into() },
            led_to: match led {
                Some(Led::To(to, _)) => Some(end_words(to)),
                _ => None,
            },
            led_to_program: None,
            led_to_pid: None,
            led_by: led.as_ref().map(|it| it.by().to_owned()),
            limited: policy.limited,
            kernel: match kernel.verdict() {
                Some(verdict) if !not_known => verdict.into(),
                _ => say::Word::Unknown,
            },
            decided_by: By::of(&policy.by, plan),
            kernel_decided_by: kernel_by,
            copy: None,
            observed: None,
            probes: Vec::new(),
            agree: kernel.verdict().filter(|_| !not_known).map(|it| it == policy.verdict),
        }
    }
}

/// Whom all is asked.
pub(super) type Of<'o> = (&'o Loaded, &'o Kernel, &'o Ways<'o>);

/// What senders want of the host.
#[derive(Clone, Debug)]
pub(crate) struct Wanted {
    /// At which of the host's addresses; at all if `None`.
    pub at: Option<IpAddr>,
    /// What their first packet carries.
    pub transport: Transport,
    /// Whose socket listens.
    pub whose: Whose,
    /// Whose it is by the kernel's rules.
    pub marked: Whose,
}

impl Wanted {
    /// A new connection to a listener, somebody's.
    pub(crate) fn of(listener: &Listener, whose: Whose, kernel: &Kernel) -> Self {
        let (source, destination) = (CLIENT_PORT, listener.port);
        Self {
            at: (!listener.address.is_unspecified()).then_some(listener.address),
            transport: Transport::Ports { protocol: listener.protocol, source, destination },
            marked: kernel.marked(listener).unwrap_or_else(|| whose.clone()),
            whose,
        }
    }

    /// A new connection to a port, at whatever address.
    pub(crate) fn port(protocol: PortProtocol, destination: u16, whose: Whose) -> Self {
        let transport = Transport::Ports { protocol, source: CLIENT_PORT, destination };
        Self { at: None, transport, marked: whose.clone(), whose }
    }

    /// An answer to a ping.
    pub(crate) fn ping(family: Family) -> Self {
        let kind = if family == Family::V4 { ECHO_REQUEST } else { ECHO_REQUEST_V6 };
        let nobody = Whose::default;
        Self { at: None, transport: Transport::Icmp { kind }, whose: nobody(), marked: nobody() }
    }
}

/// Splits the senders by what the policy and the kernel say of what they want.
pub(crate) fn parts(
    wanted: &Wanted,
    family: Family,
    loaded: &Loaded,
    kernel: &Kernel,
    ways: &Ways<'_>,
    senders: &AddressSet,
) -> Vec<Fares> {
    let mut own: Vec<IpAddr> = loaded.plan.addresses.clone();
    own.retain(|it| Family::of(*it) == family);
    if own.is_empty() {
        own.extend(loaded.plan.here(family));
    }
    let receivers = wanted.at.map_or(own, |it| vec![it]);
    let nowhere: IpAddr = match family {
        Family::V4 => [0; 4].into(),
        Family::V6 => [0; 16].into(),
    };
    let packet = Packet {
        direction: Direction::Inbound,
        in_interface: None,
        out_interface: None,
        source: nowhere,
        destination: nowhere,
        transport: wanted.transport,
        state: ConnectionState::New,
        program: wanted.whose.program.clone(),
        user: wanted.whose.user.clone(),
        asked: None,
        source_is: Relation::default(),
        destination_is: Relation::default(),
    };
    let mut deciders: Vec<&dyn Decider> = vec![&loaded.plan];
    if let Kernel::Rules(program, _) = kernel {
        deciders.push(&**program);
    }
    deciders.push(ways.decider());
    let same = wanted.whose == wanted.marked;
    let by_kernel = |packet: &Packet, led: bool| {
        if same || led {
            return kernel.ask(packet);
        }
        let Whose { program, user } = wanted.marked.clone();
        kernel.ask(&Packet { program, user, ..packet.clone() })
    };
    let fate = |packet: &Packet| {
        let (packet, led) = ways.arrive(packet);
        let mut packet = loaded.plan.related(packet);
        if packet.direction == Direction::Inbound {
            // Whoever receives it is this host.
            packet.destination_is.own = loaded.plan.moving;
        }
        let kernel = by_kernel(&packet, led.is_some());
        let direction = packet.direction;
        Fate { policy: loaded.plan.evaluate(&packet), kernel, led, direction }
    };
    let ways = told_apart(loaded, kernel, ways);
    let mut parts: Vec<Fares> = Vec::new();
    for way in &ways {
        let packet = Packet { in_interface: way.clone(), ..packet.clone() };
        let question = Question { packet: &packet, senders, receivers: &receivers, family };
        for plan::Part { senders, receivers, fate } in sweep(&deciders, &question, fate) {
            let same = parts
                .iter_mut()
                .find(|it| (&it.senders, &it.receivers, &it.fate) == (&senders, &receivers, &fate));
            match same {
                Some(part) => part.interfaces.push(way.clone()),
                None => {
                    let interfaces = vec![way.clone()];
                    parts.push(Fares { senders, receivers, family, interfaces, fate });
                }
            }
        }
    }
    for part in parts.iter_mut().filter(|part| part.interfaces.len() == ways.len()) {
        part.interfaces.clear();
    }
    // Exceptions first, then the rest.
    parts.sort_by_key(|part| part.senders.blocks().len());
    parts
}

/// The interfaces by which something may make a difference, `None` standing for one that no rule names.
fn told_apart(loaded: &Loaded, kernel: &Kernel, ways: &Ways<'_>) -> Vec<Option<String>> {
    let mut apart = loaded.plan.interfaces_told_apart(Direction::Inbound);
    if let Kernel::Rules(program, _) = kernel {
        apart.extend(program.interfaces_told_apart());
    }
    // Where others lead packets is known by the link that they come by.
    let another = if ways.lead() { None } else { Some(None) };
    apart.extend(ways.links().filter(|_| another.is_none()).map(str::to_owned));
    apart.sort();
    apart.dedup();
    apart.into_iter().map(Some).chain(another).collect()
}
