//! A rule program as plain data.

use crate::plan::{InterfaceTest, RuleId, told_apart};
use crate::policy::{Logging, Rate, Record, Taken, Time};
use crate::space::{
    AddressSet, ConnectionState, Direction, Family, ICMP, ICMPV6, PortProtocol, RangeSet, StateSet,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::fmt;

/// Everything that one host's table in the kernel holds.
#[derive(Clone, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct RuleProgram {
    /// The chains: first those that packets enter, in the order of [`Direction::ALL`], then the
    /// others by name; see [`RuleProgram::sort`].
    pub chains: Vec<Chain>,
    /// The TCP ports at which it decides whose the listener is. A new connection that comes there
    /// from where an old one came is to meet the listener, not what remains of the old one.
    pub reopened: RangeSet<u16>,
    /// The networks that the host is on, if a test asks for them.
    #[serde(default, skip_serializing_if = "AddressSet::is_empty")]
    pub on_link: AddressSet,
    /// What the kernel remembers of who came; `None`: nothing, or not all that it is to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub record: Option<Record>,
    /// Which decisions the kernel reports; `None`: none, or not all that it is to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logging: Option<Logging>,
    /// What each rule or default means that admits, where it is remembered whom: what is told of it is evidence about
    /// that, and no other meaning.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub admitting: Vec<Admitting>,
    /// The posture that it is of; `None`: of none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub taken: Option<Taken>,
}

/// A rule or default that admits, and what it means.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Admitting {
    /// The direction of the packets.
    pub direction: Direction,
    /// The rule.
    pub id: RuleId,
    /// Its [fingerprint](crate::plan::Decision::fingerprint).
    pub fingerprint: u64,
}

impl RuleProgram {
    /// The chain that packets of a direction enter.
    #[must_use]
    pub fn base(&self, direction: Direction) -> Option<&Chain> {
        self.chains.iter().find(|it| it.base.is_some() && it.direction == Some(direction))
    }

    /// The interfaces that rules name, besides the loopback interface.
    #[must_use]
    pub fn interfaces_told_apart(&self) -> Vec<String> {
        let tests = self.chains.iter().flat_map(|chain| &chain.rules).flat_map(|it| &it.tests);
        told_apart(tests.filter_map(|test| match test {
            Test::InInterface(test) | Test::OutInterface(test) => Some(test),
            _ => None,
        }))
    }

    /// The lists of programs and of users that rules name, each in ascending order. Programs begin with
    /// `/`, users never do.
    #[must_use]
    pub fn owner_lists(&self) -> BTreeSet<Vec<String>> {
        let tests = self.chains.iter().flat_map(|chain| &chain.rules).flat_map(|it| &it.tests);
        let lists = tests.filter_map(|test| match test {
            Test::Program(names) | Test::User(names) => Some(names.clone()),
            _ => None,
        });
        lists.collect()
    }

    /// The IP versions in which a test asks whether an address is on a link.
    #[must_use]
    pub fn asks_for_links(&self) -> BTreeSet<Family> {
        let tests = self.chains.iter().flat_map(|chain| &chain.rules).flat_map(|it| &it.tests);
        let asked = tests.filter_map(|test| match test {
            Test::OnLink(_, family, _) => Some(*family),
            _ => None,
        });
        asked.collect()
    }

    /// The chain of that name.
    #[must_use]
    pub fn chain(&self, name: &str) -> Option<&Chain> {
        let (entered, helpers) = self.chains.split_at(self.entered());
        let at = helpers.binary_search_by(|chain| chain.name.as_str().cmp(name));
        at.ok().map(|at| &helpers[at]).or_else(|| entered.iter().find(|chain| chain.name == name))
    }

    /// Puts the chains into their order.
    pub fn sort(&mut self) {
        self.chains.sort_by(|a, b| {
            let place = |chain: &Chain| match (chain.base, chain.direction) {
                (Some(_), Some(direction)) => direction as usize,
                _ => usize::MAX,
            };
            place(a).cmp(&place(b)).then_with(|| a.name.cmp(&b.name))
        });
    }

    /// How many chains packets enter.
    fn entered(&self) -> usize {
        self.chains.partition_point(|chain| chain.base.is_some())
    }
}

/// What is said of a chain where packets enter.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct BaseChain {
    /// Whether a packet that leaves it undecided passes.
    pub passes: bool,
}

/// A named list of rules, walked in order.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Chain {
    /// The name by which rules jump to it.
    pub name: String,
    /// The direction of the packets that come to it; `None` for a chain that is not one of ours.
    pub direction: Option<Direction>,
    /// Where packets enter; `None` for a chain that rules jump to.
    pub base: Option<BaseChain>,
    /// Its rules, in the order in which they are walked.
    pub rules: Vec<ProgramRule>,
}

impl Chain {
    /// For each of its rules, which packets of their decision the first counter counts.
    pub fn counted(&self) -> impl Iterator<Item = Counted> {
        let limits =
            |it: &ProgramRule| matches!(it.action, Action::AllowWithin(_) | Action::AllowEach(..));
        let limits = self.rules.iter().any(limits);
        self.rules.iter().map(move |rule| match rule.action {
            Action::AllowCrowded(..) => Counted::Crowded,
            Action::Deny if limits => Counted::Excess,
            _ => Counted::Taken,
        })
    }
}

/// Which packets of a decision a counter counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Counted {
    /// Those that it takes; of a rate, those within it.
    Taken,
    /// Those beyond its rate.
    Excess,
    /// Those of senders for which a rate per source had no room.
    Crowded,
}

/// One rule: if all tests hold, the action is taken.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct ProgramRule {
    /// The decision it serves; several rules can serve one. `None` for a rule that only leads on.
    pub id: Option<RuleId>,
    /// The tests, in the order in which they are made.
    pub tests: Vec<Test>,
    /// What happens if all of them hold.
    pub action: Action,
}

/// One test of a packet.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Test {
    /// The interface it comes in by.
    InInterface(InterfaceTest),
    /// The interface it goes out by.
    OutInterface(InterfaceTest),
    /// What connection tracking says.
    State(StateSet),
    /// The IP version of the packet.
    Family(Family),
    /// The protocol's number in the IP header.
    Protocol(RangeSet<u8>),
    /// The sender's address; only one IP version is filled.
    Source(AddressSet),
    /// The receiver's address; only one IP version is filled.
    Destination(AddressSet),
    /// The ICMP or ICMPv6 type.
    IcmpType(RangeSet<u8>),
    /// The port that it comes from.
    SourcePort(RangeSet<u16>),
    /// The port that it goes to.
    DestinationPort(RangeSet<u16>),
    /// The time, which must come before this moment.
    Before(Time),
    /// Whether an end's address is one of the host's own, by the kernel's word.
    Own(End, bool),
    /// Whether an end's address is in one of the networks that the host is on; the IP version is that
    /// of the packet.
    OnLink(End, Family, bool),
    /// Its destination was translated on its way in, it goes the way in which its connection was made, and
    /// this is the port that was asked for.
    Published(RangeSet<u16>),
    /// The executable of the socket that receives or sends it.
    Program(Vec<String>),
    /// The socket is one of these users'.
    User(Vec<String>),
    /// Something that this program does not understand; the text describes it.
    Opaque(String),
}

/// An end of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum End {
    /// Where it comes from.
    Source,
    /// Where it goes.
    Destination,
}

/// What a rule does.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Action {
    /// Let the packet pass.
    Allow,
    /// Drop it in silence.
    Deny,
    /// Drop it, and answer with a TCP reset.
    Reset,
    /// Drop it, and answer that it is administratively prohibited (ICMP or ICMPv6).
    Prohibit,
    /// Let it pass while all together keep the rate; otherwise go on with the next rule.
    AllowWithin(Rate),
    /// Let it pass while its sender keeps the rate; otherwise go on with the next rule.
    AllowEach(Rate, Sender),
    /// Where there was no room to tell its sender apart for the rule before, which keeps a rate for
    /// each: count it; and let it pass while the senders that share a place with it keep the rate
    /// together. Otherwise go on with the next rule.
    AllowCrowded(Rate, Sender),
    /// Report it to who listens, under the name of the decision, and go on with the next rule; at
    /// most so often, if a rate is given.
    Log(Option<Rate>),
    /// Go on in another chain; if nothing there decides, go on with the next rule.
    Jump(String),
    /// Look it up; if nothing is found, go on with the next rule.
    Choose(Lookup),
    /// Something that this program does not understand.
    Opaque(String),
}

/// Whom a rate for each source takes for one sender.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Sender {
    /// An IPv4 address by itself.
    Address,
    /// The first 64 bits of an IPv6 address: a network whose hosts choose the rest as they like
    /// (RFC 4291 section 2.5.1).
    Network,
}

impl Sender {
    /// Who is one over an IP version.
    #[must_use]
    pub fn over(family: Family) -> Self {
        if family == Family::V4 { Self::Address } else { Self::Network }
    }
}

/// What is looked up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Key {
    /// The address that it comes from.
    Source(Family),
    /// The address that it goes to.
    Destination(Family),
    /// The port that it goes to.
    DestinationPort,
    /// The ICMP or ICMPv6 type.
    IcmpType,
    /// The sender's address, the protocol and the receiver's port.
    SourceService(Family),
    /// The receiver's address, the protocol and the receiver's port.
    DestinationService(Family),
}

/// A value that is looked up: an address, port or type, and for [`Key::SourceService`] and
/// [`Key::DestinationService`] the protocol's number shifted left by 16 bits plus the port.
pub type KeyValue = (u128, u32);

/// Values, sorted and disjoint, and where each leads.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Lookup {
    /// What is looked up.
    pub key: Key,
    /// The entries, ascending. Those of a key with a service hold one value each.
    pub entries: Vec<Entry>,
}

/// A range of values that lead to the same.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Entry {
    /// The smallest value of the range.
    pub first: KeyValue,
    /// The largest value of the range.
    pub last: KeyValue,
    /// Where a packet with such a value is led.
    pub then: Then,
}

/// Where an entry of a lookup leads.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Then {
    /// The decision lets the packet pass.
    Allow(RuleId),
    /// The decision drops it in silence.
    Deny(RuleId),
    /// Go on in another chain.
    Jump(String),
    /// Something that this program does not understand.
    Opaque(String),
}

impl fmt::Display for Test {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::InInterface(test) => write!(out, "in by {}", interface(test)),
            Self::OutInterface(test) => write!(out, "out by {}", interface(test)),
            Self::State(states) => {
                let words: Vec<&str> = states.iter().map(ConnectionState::as_str).collect();
                write!(out, "state {}", words.join(" or "))
            }
            Self::Family(family) => family.fmt(out),
            Self::Protocol(numbers) => out.write_str(&protocols(numbers)),
            Self::Source(set) => write!(out, "from {set}"),
            Self::Destination(set) => write!(out, "to {set}"),
            Self::IcmpType(types) => write!(out, "icmp type {types}"),
            Self::SourcePort(ports) => write!(out, "from port {ports}"),
            Self::DestinationPort(ports) => write!(out, "to port {ports}"),
            Self::Before(time) => write!(out, "before {time}"),
            Self::Own(end, is) => {
                let not = if *is { "" } else { "not " };
                write!(out, "{end} {not}one of this host's own addresses")
            }
            Self::OnLink(end, family, is) => {
                let not = if *is { "" } else { "not " };
                write!(out, "{end} {not}on a link of {family}")
            }
            Self::Published(ports) => write!(out, "led here from port {ports}"),
            Self::Program(paths) => write!(out, "of {}", paths.join(" or ")),
            Self::User(users) => write!(out, "by {}", users.join(" or ")),
            Self::Opaque(text) => write!(out, "({text})"),
        }
    }
}

impl fmt::Display for End {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(match self {
            Self::Source => "from",
            Self::Destination => "to",
        })
    }
}

fn protocols(numbers: &RangeSet<u8>) -> String {
    let word = |&(first, last): &(u8, u8)| match (first, last) {
        (ICMP, ICMP) => "icmp".to_owned(),
        (ICMPV6, ICMPV6) => "icmpv6".to_owned(),
        (first, last) if first == last => match PortProtocol::of_number(first) {
            Some(protocol) => protocol.to_string(),
            None => format!("protocol {first}"),
        },
        (first, last) => format!("protocols {first}-{last}"),
    };
    numbers.ranges().iter().map(word).collect::<Vec<_>>().join(" or ")
}

fn interface(test: &InterfaceTest) -> String {
    match test {
        InterfaceTest::Any => "any interface".into(),
        InterfaceTest::Is(name) => name.clone(),
        InterfaceTest::IsNot(name) => format!("anything but {name}"),
    }
}

impl fmt::Display for Action {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Allow => out.write_str("allow"),
            Self::Deny => out.write_str("deny"),
            Self::Reset => out.write_str("reject with a reset"),
            Self::Prohibit => out.write_str("reject as prohibited"),
            Self::AllowWithin(rate) | Self::AllowEach(rate, _) => write!(out, "allow {rate}"),
            Self::AllowCrowded(rate, _) => write!(out, "allow {rate}, in crowded places"),
            Self::Log(None) => out.write_str("report"),
            Self::Log(Some(cap)) => write!(out, "report {cap}"),
            Self::Jump(chain) => write!(out, "go to {chain}"),
            Self::Choose(lookup) => lookup.fmt(out),
            Self::Opaque(text) => write!(out, "({text})"),
        }
    }
}

impl fmt::Display for Lookup {
    /// `look up the sender: 10.44.8.20 deny (nuisance), ...`; long ones are cut short.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        const SHOWN: usize = 4;
        let what = match self.key {
            Key::Source(_) => "sender",
            Key::Destination(_) => "receiver",
            Key::DestinationPort => "port",
            Key::IcmpType => "icmp type",
            Key::SourceService(_) => "sender and port",
            Key::DestinationService(_) => "receiver and port",
        };
        write!(out, "look up the {what}:")?;
        for (index, entry) in self.entries.iter().take(SHOWN).enumerate() {
            let comma = if index > 0 { "," } else { "" };
            write!(out, "{comma} {}", self.key.words(entry))?;
            match &entry.then {
                Then::Allow(id) => write!(out, " allow ({id})")?,
                Then::Deny(id) => write!(out, " deny ({id})")?,
                Then::Jump(chain) => write!(out, " go to {chain}")?,
                Then::Opaque(text) => write!(out, " ({text})")?,
            }
        }
        match self.entries.len().saturating_sub(SHOWN) {
            0 => Ok(()),
            more => write!(out, ", {more} more"),
        }
    }
}

impl Key {
    /// The values of an entry as people write them.
    fn words(self, entry: &Entry) -> String {
        // Values come from fields of these widths.
        let v4 = |value: u128| u32::try_from(value).unwrap_or(u32::MAX);
        let addresses = |family: Family| match family {
            Family::V4 => AddressSet::from_v4([(v4(entry.first.0), v4(entry.last.0))]),
            Family::V6 => AddressSet::from_v6([(entry.first.0, entry.last.0)]),
        };
        match self {
            Self::Source(family) | Self::Destination(family) => addresses(family).to_string(),
            Self::DestinationPort | Self::IcmpType => {
                RangeSet::from_ranges([(entry.first.0, entry.last.0)]).to_string()
            }
            Self::SourceService(family) | Self::DestinationService(family) => {
                let (protocol, port) = (entry.first.1 >> 16, entry.first.1 & 0xffff);
                let protocol = u8::try_from(protocol).unwrap_or(u8::MAX);
                let word = protocols(&RangeSet::single(protocol));
                format!("{} {port}/{word}", addresses(family))
            }
        }
    }
}

impl fmt::Display for ProgramRule {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        for test in &self.tests {
            write!(out, "{test}, ")?;
        }
        self.action.fmt(out)
    }
}
