//! Where two rule programs differ.

use super::model::{ProgramRule, RuleProgram, Test};
use crate::space::{ConnectionState, Direction, Family, Packet, Transport};
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// One difference between the program that was meant and the one that was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Drift {
    /// A chain is not there.
    MissingChain(String),
    /// There is a chain that was not meant.
    ExtraChain(String),
    /// A chain hangs elsewhere, or lets undecided packets fare otherwise.
    ChangedChain(String),
    /// A rule is not there.
    MissingRule {
        /// The chain it was meant for.
        chain: String,
        /// The rule.
        rule: ProgramRule,
    },
    /// There is a rule that was not meant.
    ExtraRule {
        /// The chain it is in.
        chain: String,
        /// The rule.
        rule: ProgramRule,
    },
    /// Rules that are in both stand in another order.
    Reordered(String),
}

impl Drift {
    /// The rule that is missing or too many.
    #[must_use]
    pub fn rule(&self) -> Option<&ProgramRule> {
        match self {
            Self::MissingRule { rule, .. } | Self::ExtraRule { rule, .. } => Some(rule),
            _ => None,
        }
    }
}

/// Compares the program that was meant with the one that was found; equal programs give nothing.
#[must_use]
pub fn compare(meant: &RuleProgram, found: &RuleProgram) -> Vec<Drift> {
    let mut drifts = Vec::new();
    for chain in &meant.chains {
        let name = || chain.name.clone();
        let Some(other) = found.chain(&chain.name) else {
            drifts.push(Drift::MissingChain(name()));
            continue;
        };
        if chain.base != other.base {
            drifts.push(Drift::ChangedChain(name()));
        }
        if chain.rules == other.rules {
            continue;
        }
        let missing = without(&chain.rules, &other.rules);
        let extra = without(&other.rules, &chain.rules);
        if without(&chain.rules, &missing) != without(&other.rules, &extra) {
            drifts.push(Drift::Reordered(name()));
        }
        drifts.extend(missing.into_iter().map(|rule| Drift::MissingRule { chain: name(), rule }));
        drifts.extend(extra.into_iter().map(|rule| Drift::ExtraRule { chain: name(), rule }));
    }
    for chain in &found.chains {
        if meant.chain(&chain.name).is_none() {
            drifts.push(Drift::ExtraChain(chain.name.clone()));
        }
    }
    drifts
}

/// The rules of `list` that are left when each rule of `other` has cancelled one equal to it.
fn without(list: &[ProgramRule], other: &[ProgramRule]) -> Vec<ProgramRule> {
    let mut rest: HashMap<&ProgramRule, usize> = HashMap::with_capacity(other.len());
    for rule in other {
        *rest.entry(rule).or_default() += 1;
    }
    let mut left = Vec::new();
    for rule in list {
        match rest.get_mut(rule).filter(|count| **count > 0) {
            Some(count) => *count -= 1,
            None => left.push(rule.clone()),
        }
    }
    left
}

impl ProgramRule {
    /// A packet of the given direction that passes the rule's tests, if one can be made up from
    /// a value of each. `own` are the host's addresses, at which the packet begins or ends where
    /// the rule leaves that open.
    #[must_use]
    pub fn example(&self, direction: Direction, own: &[IpAddr]) -> Option<Packet> {
        let mut family = Family::V4;
        let (mut protocol, mut kind, mut source_port, mut port) = (None, None, 49_152, None);
        for test in &self.tests {
            match test {
                Test::Family(found) => family = *found,
                Test::Protocol(numbers) => protocol = numbers.first(),
                Test::IcmpType(types) => kind = types.first(),
                Test::SourcePort(ports) => source_port = ports.first()?,
                Test::DestinationPort(ports) => port = ports.first(),
                _ => {}
            }
        }
        let stranger: IpAddr = match family {
            Family::V4 => Ipv4Addr::new(203, 0, 113, 1).into(),
            Family::V6 => Ipv6Addr::new(0x2001, 0xdb8, 0xbad, 0, 0, 0, 0, 1).into(),
        };
        let here = own.iter().copied().find(|it| Family::of(*it) == family).unwrap_or(stranger);
        let (source, destination) = match direction {
            Direction::Inbound => (stranger, here),
            Direction::Outbound => (here, stranger),
            Direction::Forwarded => (stranger, stranger),
        };
        let destination_port = port.unwrap_or(9);
        let mut packet = Packet {
            direction,
            in_interface: None,
            out_interface: None,
            source,
            destination,
            transport: match (protocol, kind) {
                (_, Some(kind)) => Transport::Icmp { kind },
                (Some(crate::space::UDP), _) => {
                    Transport::Udp { source: source_port, destination: destination_port }
                }
                (None | Some(crate::space::TCP), _) => {
                    Transport::Tcp { source: source_port, destination: destination_port }
                }
                (Some(crate::space::ICMP | crate::space::ICMPV6), None) => {
                    Transport::Icmp { kind: 0 }
                }
                (Some(protocol), None) => Transport::Other { protocol },
            },
            state: ConnectionState::New,
        };
        for test in &self.tests {
            match test {
                Test::Source(set) => packet.source = set.likely(family)?,
                Test::Destination(set) => packet.destination = set.likely(family)?,
                Test::State(states) => packet.state = states.iter().next()?,
                Test::InInterface(crate::plan::InterfaceTest::Is(name)) => {
                    packet.in_interface = Some(name.clone());
                }
                Test::OutInterface(crate::plan::InterfaceTest::Is(name)) => {
                    packet.out_interface = Some(name.clone());
                }
                _ => {}
            }
        }
        let holds = self.tests.iter().all(|test| test.holds(&packet) == Some(true));
        holds.then_some(packet)
    }
}
