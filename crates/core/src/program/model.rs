//! A rule program as plain data.

use crate::plan::{InterfaceTest, RuleId, told_apart};
use crate::policy::Rate;
use crate::space::{
    AddressSet, ConnectionState, Direction, Family, ICMP, ICMPV6, RangeSet, StateSet, TCP, UDP,
};
use std::fmt;

/// Everything that one host's table in the kernel holds.
#[derive(Clone, Debug, PartialEq, Eq, Default)]
pub struct RuleProgram {
    /// The chains; those that packets enter come first, in the order of [`Direction::ALL`].
    pub chains: Vec<Chain>,
}

impl RuleProgram {
    /// The chain that packets of a direction enter.
    #[must_use]
    pub fn base(&self, direction: Direction) -> Option<&Chain> {
        self.chains.iter().find(|chain| chain.base.is_some_and(|base| base.direction == direction))
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

    /// The chain of that name.
    #[must_use]
    pub fn chain(&self, name: &str) -> Option<&Chain> {
        self.chains.iter().find(|chain| chain.name == name)
    }
}

/// How a chain hangs in the packet path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct BaseChain {
    /// The packets that enter it.
    pub direction: Direction,
    /// Whether a packet that leaves it undecided passes.
    pub passes: bool,
}

/// Rules in order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Chain {
    /// Its name.
    pub name: String,
    /// Where packets enter; `None` for a chain that rules jump to.
    pub base: Option<BaseChain>,
    /// Its rules.
    pub rules: Vec<ProgramRule>,
}

/// One rule: if all tests hold, the action is taken.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct ProgramRule {
    /// The decision it serves. Several rules can serve one decision.
    pub id: RuleId,
    /// The tests, in the order in which they are made.
    pub tests: Vec<Test>,
    /// What happens then.
    pub action: Action,
}

/// One test of a packet.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Test {
    /// The interface it comes in by.
    InInterface(InterfaceTest),
    /// The interface it goes out by.
    OutInterface(InterfaceTest),
    /// What connection tracking says.
    State(StateSet),
    /// The IP version.
    Family(Family),
    /// The protocol number.
    Protocol(RangeSet<u8>),
    /// The sender's address; only one IP version is filled.
    Source(AddressSet),
    /// The receiver's address; only one IP version is filled.
    Destination(AddressSet),
    /// The ICMP or ICMPv6 type.
    IcmpType(RangeSet<u8>),
    /// The sender's port.
    SourcePort(RangeSet<u16>),
    /// The receiver's port.
    DestinationPort(RangeSet<u16>),
    /// Something that this program does not understand; the text describes it.
    Opaque(String),
}

/// What a rule does.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Action {
    /// Let the packet pass.
    Allow,
    /// Drop it in silence.
    Deny,
    /// Drop it, and answer with a TCP reset.
    Reset,
    /// Drop it, and answer that it is administratively prohibited (ICMP or ICMPv6).
    Prohibit,
    /// Let it pass while the rate is kept; otherwise go on with the next rule.
    AllowWithin(Rate),
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
            Self::Opaque(text) => write!(out, "({text})"),
        }
    }
}

fn protocols(numbers: &RangeSet<u8>) -> String {
    let word = |&(first, last): &(u8, u8)| match (first, last) {
        (TCP, TCP) => "tcp".to_owned(),
        (UDP, UDP) => "udp".to_owned(),
        (ICMP, ICMP) => "icmp".to_owned(),
        (ICMPV6, ICMPV6) => "icmpv6".to_owned(),
        (first, last) if first == last => format!("protocol {first}"),
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
            Self::AllowWithin(rate) => write!(out, "allow {rate}"),
            Self::Jump(chain) => write!(out, "go to {chain}"),
            Self::Opaque(text) => write!(out, "({text})"),
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
