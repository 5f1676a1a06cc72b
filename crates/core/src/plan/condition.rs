//! What a packet must be like for a decision to take it.

use crate::policy::Time;
use crate::space::{
    AddressSet, ConnectionState, Packet, RangeSet, RelationSet, StateSet, TrafficSet,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::fmt;

/// The kernel's name of the loopback interface.
pub const LOOPBACK: &str = "lo";

/// A test of an interface name.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum InterfaceTest {
    /// It does not matter which interface.
    #[default]
    Any,
    /// The interface of this name, and no other.
    Is(String),
    /// Any but this interface.
    IsNot(String),
}

impl InterfaceTest {
    /// The test for an interface as rules name it: `!` ahead of the name for all others.
    #[must_use]
    pub fn of(name: &str) -> Self {
        match name.strip_prefix('!') {
            Some(other) => Self::IsNot(other.into()),
            None => Self::Is(name.into()),
        }
    }

    /// The interface that the test names.
    #[must_use]
    pub fn name(&self) -> Option<&str> {
        match self {
            Self::Any => None,
            Self::Is(name) | Self::IsNot(name) => Some(name),
        }
    }

    /// Whether the interface passes the test; `None` stands for some interface that is not the
    /// loopback interface and that nobody names.
    #[must_use]
    pub fn holds(&self, interface: Option<&str>) -> bool {
        match self {
            Self::Any => true,
            Self::Is(name) => interface == Some(name),
            Self::IsNot(name) => interface != Some(name),
        }
    }
}

/// The interfaces that tests name, besides the loopback interface, each once and in order.
pub fn told_apart<'a>(tests: impl Iterator<Item = &'a InterfaceTest>) -> Vec<String> {
    let names = tests.filter_map(InterfaceTest::name).filter(|name| *name != LOOPBACK);
    let names: BTreeSet<&str> = names.collect();
    names.into_iter().map(str::to_owned).collect()
}

/// All tests of a condition must hold.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Condition {
    /// The interface by which the packet comes in.
    pub in_interface: InterfaceTest,
    /// The interface by which it goes out.
    pub out_interface: InterfaceTest,
    /// The connection states that pass; `None`: all.
    pub states: Option<StateSet>,
    /// What the packet carries.
    pub traffic: TrafficSet,
    /// The ports it may come from, where it has ports; anything but all ports excludes packets
    /// without ports.
    pub source_ports: RangeSet<u16>,
    /// Where it may come from.
    pub source: AddressSet,
    /// Where it may go.
    pub destination: AddressSet,
    /// What the source may be to a host whose addresses the policy does not list.
    pub source_is: RelationSet,
    /// What the destination may be to it.
    pub destination_is: RelationSet,
    /// The executables whose sockets may receive or send it; any if empty.
    pub programs: Vec<String>,
    /// The users whose sockets may receive or send it; any if empty.
    pub users: Vec<String>,
    /// The ports that the sender may have asked for where the packet was led elsewhere; 0 stands for one
    /// that was not.
    pub published: RangeSet<u16>,
    /// When the rule ends. In a plan it has not ended yet, so that no packet fails this.
    pub until: Option<Time>,
}

impl Default for Condition {
    /// The condition that every packet meets.
    fn default() -> Self {
        Self {
            in_interface: InterfaceTest::Any,
            out_interface: InterfaceTest::Any,
            states: None,
            traffic: TrafficSet::any(),
            source_ports: RangeSet::full(),
            source: AddressSet::full(),
            destination: AddressSet::full(),
            source_is: RelationSet::full(),
            destination_is: RelationSet::full(),
            programs: Vec::new(),
            users: Vec::new(),
            published: RangeSet::full(),
            until: None,
        }
    }
}

/// The first test that a packet fails, from the coarsest to the finest.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Miss {
    /// It uses another interface.
    Interface,
    /// Its connection is in another state.
    State,
    /// It carries something else.
    Traffic,
    /// It comes from another port.
    SourcePort,
    /// It was not led here from such a port.
    Published,
    /// It comes from another address.
    Source,
    /// It goes to another address.
    Destination,
    /// Another program receives or sends it.
    Program,
    /// Another user's program receives or sends it.
    User,
}

impl fmt::Display for Miss {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(match self {
            Self::Interface => "other interface",
            Self::State => "other connection state",
            Self::Traffic => "other traffic",
            Self::SourcePort => "other source port",
            Self::Published => "other published port",
            Self::Source => "other sender",
            Self::Destination => "other receiver",
            Self::Program => "other program",
            Self::User => "other user",
        })
    }
}

impl Condition {
    /// A condition on the connection state alone.
    #[must_use]
    pub fn states(states: &[ConnectionState]) -> Self {
        Self { states: Some(StateSet::of(states)), ..Self::default() }
    }

    /// The first test that `packet` fails, or `None` if it meets the condition.
    #[must_use]
    pub fn miss(&self, packet: &Packet) -> Option<Miss> {
        let interfaces = self.in_interface.holds(packet.in_interface.as_deref())
            && self.out_interface.holds(packet.out_interface.as_deref());
        if !interfaces {
            Some(Miss::Interface)
        } else if self.states.is_some_and(|states| !states.contains(packet.state)) {
            Some(Miss::State)
        } else if !self.traffic.contains(packet) {
            Some(Miss::Traffic)
        } else if !self.source_port_passes(packet) {
            Some(Miss::SourcePort)
        } else if !self.published.contains(packet.asked.unwrap_or(0)) {
            Some(Miss::Published)
        } else if !self.source.contains(packet.source) || !self.source_is.contains(packet.source_is)
        {
            Some(Miss::Source)
        } else if !self.destination.contains(packet.destination)
            || !self.destination_is.contains(packet.destination_is)
        {
            Some(Miss::Destination)
        } else if !is_among(&self.programs, packet.program.as_deref()) {
            Some(Miss::Program)
        } else if !is_among(&self.users, packet.user.as_deref()) {
            Some(Miss::User)
        } else {
            None
        }
    }

    /// Whether every packet meets the condition.
    #[must_use]
    pub fn is_any(&self) -> bool {
        self.in_interface == InterfaceTest::Any
            && self.out_interface == InterfaceTest::Any
            && self.states.is_none()
            && !self.names_owners()
            && self.until.is_none()
            && self.source_ports.is_full()
            && self.published.is_full()
            && self.source.is_full()
            && self.destination.is_full()
            && self.source_is.is_full()
            && self.destination_is.is_full()
            && self.traffic.is_any()
    }

    /// Whether it asks whose socket receives or sends the packet.
    #[must_use]
    pub fn names_owners(&self) -> bool {
        !self.programs.is_empty() || !self.users.is_empty()
    }

    fn source_port_passes(&self, packet: &Packet) -> bool {
        self.source_ports.is_full()
            || packet.ports().is_some_and(|(source, _)| self.source_ports.contains(source))
    }
}

/// Whether a name is on the list, or the list does not matter.
fn is_among(list: &[String], name: Option<&str>) -> bool {
    list.is_empty() || name.is_some_and(|name| list.iter().any(|it| it == name))
}
