//! What several tests ask of a packet together: a product of sets.

use crate::plan::InterfaceTest;
use crate::program::{End, Test};
use crate::space::{
    AddressSet, ConnectionState, Family, ICMP, ICMPV6, PortProtocol, RangeSet, StateSet,
};
use std::collections::BTreeSet;

/// By which interfaces.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Links {
    /// By this one only.
    pub is: Option<String>,
    /// By none of these.
    pub is_not: BTreeSet<String>,
    /// By two at once, which none does.
    none: bool,
}

impl Links {
    fn narrow(&mut self, test: &InterfaceTest) {
        match test {
            InterfaceTest::Any => {}
            InterfaceTest::Is(name) => {
                self.none |= self.is.as_ref().is_some_and(|it| it != name);
                self.is = Some(name.clone());
            }
            InterfaceTest::IsNot(name) => {
                self.is_not.insert(name.clone());
            }
        }
    }

    fn is_empty(&self) -> bool {
        self.none || self.is.as_ref().is_some_and(|it| self.is_not.contains(it))
    }

    /// The words for it in a policy; `None` if it has none.
    pub(super) fn words(&self) -> Option<Vec<String>> {
        match (&self.is, self.is_not.len()) {
            (Some(name), _) => Some(vec![name.clone()]),
            (None, 0) => Some(Vec::new()),
            (None, 1) => Some(self.is_not.iter().map(|it| format!("!{it}")).collect()),
            (None, _) => None,
        }
    }
}

/// What is asked of a packet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Narrowed {
    /// All tests, as they were made.
    pub tests: Vec<Test>,
    pub states: StateSet,
    pub protocols: RangeSet<u8>,
    pub source: AddressSet,
    pub destination: AddressSet,
    pub source_ports: RangeSet<u16>,
    pub ports: RangeSet<u16>,
    /// Types of the IP version's own ICMP, if only such is meant.
    pub types: Option<RangeSet<u8>>,
    pub ingress: Links,
    pub egress: Links,
    /// Whether source and destination are the host's own.
    pub own: [Option<bool>; 2],
    /// Of what is asked besides, nothing is known; in words.
    pub opaque: Vec<String>,
    families: [bool; 2],
    none: bool,
}

impl Narrowed {
    /// Every packet.
    pub(super) fn all() -> Self {
        Self {
            tests: Vec::new(),
            states: StateSet::of(&ConnectionState::ALL),
            protocols: RangeSet::full(),
            source: AddressSet::full(),
            destination: AddressSet::full(),
            source_ports: RangeSet::full(),
            ports: RangeSet::full(),
            types: None,
            ingress: Links::default(),
            egress: Links::default(),
            own: [None; 2],
            opaque: Vec::new(),
            families: [true; 2],
            none: false,
        }
    }

    /// The same, if another test holds too.
    pub(super) fn and(&self, test: &Test) -> Self {
        let mut all = self.clone();
        all.narrow(test);
        all.tests.push(test.clone());
        all
    }

    /// The same, if other tests hold too; `None` if that is no packet.
    pub(super) fn and_all(&self, tests: &[Test]) -> Option<Self> {
        let all = tests.iter().fold(self.clone(), |all, test| all.and(test));
        (!all.is_empty()).then_some(all)
    }

    fn narrow(&mut self, test: &Test) {
        match test {
            Test::InInterface(test) => self.ingress.narrow(test),
            Test::OutInterface(test) => self.egress.narrow(test),
            Test::State(states) => self.states = self.states.intersection(*states),
            Test::Family(Family::V4) => self.families[1] = false,
            Test::Family(Family::V6) => self.families[0] = false,
            Test::Protocol(numbers) => self.protocols = self.protocols.intersection(numbers),
            Test::Source(set) => self.source = self.source.intersection(set),
            Test::Destination(set) => self.destination = self.destination.intersection(set),
            Test::IcmpType(types) => {
                self.types = Some(match &self.types {
                    Some(known) => known.intersection(types),
                    None => types.clone(),
                });
            }
            Test::SourcePort(ports) => {
                self.source_ports = self.source_ports.intersection(ports);
                self.protocols = self.protocols.intersection(&PortProtocol::numbers());
            }
            Test::DestinationPort(ports) => {
                self.ports = self.ports.intersection(ports);
                self.protocols = self.protocols.intersection(&PortProtocol::numbers());
            }
            Test::Own(end, is) => {
                let at = &mut self.own[usize::from(*end == End::Destination)];
                self.none |= at.is_some_and(|known| known != *is);
                *at = Some(*is);
            }
            other => self.opaque.push(match other {
                Test::Opaque(why) => why.clone(),
                other => other.to_string(),
            }),
        }
    }

    /// Whether packets of an IP version are meant.
    pub(super) fn has(&self, family: Family) -> bool {
        let own = match &self.types {
            Some(types) => !types.is_empty() && self.protocols.contains(own(family)),
            None => !self.protocols.is_empty(),
        };
        self.families[usize::from(family == Family::V6)]
            && self.source.has(family)
            && self.destination.has(family)
            && own
    }

    fn is_empty(&self) -> bool {
        self.none
            || self.states.is_empty()
            || self.ingress.is_empty()
            || self.egress.is_empty()
            || self.ports.is_empty()
            || self.source_ports.is_empty()
            || !Family::BOTH.into_iter().any(|it| self.has(it))
    }
}

/// The number of an IP version's own ICMP.
pub(super) fn own(family: Family) -> u8 {
    if family == Family::V4 { ICMP } else { ICMPV6 }
}
