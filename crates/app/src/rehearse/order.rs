//! What a lab is told to try, and what it answers: one JSON value a line.

use crate::vocabulary::Verdict;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;
use std::path::PathBuf;
use tipstaff_core::space::{AddressSet, ByProtocol, Family, PortProtocol, RangeSet, TrafficSet};
use tipstaff_linux::ruleset::Whose;

/// What the lab is made of, and what is tried in it.
#[derive(Debug, Serialize, Deserialize)]
pub struct Order {
    /// The name of the host in the lab.
    pub host: String,
    /// What stands in the lab.
    pub scene: Scene,
    /// What packets there are; tries name them by their place here.
    pub packets: Vec<Ranges>,
    /// What is tried, in this order.
    pub tries: Vec<Try>,
    /// What is tried behind that of what leaves the host, and of what passes through it.
    #[serde(default)]
    pub crossings: Vec<Crossing>,
}

/// A packet that leaves the host, or passes through it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Crossing {
    /// The host's link by which it comes in; `None`: it is the host that sends it.
    pub by: Option<String>,
    /// The link by which it leaves.
    pub to: String,
    /// The address that it is sent from.
    pub source: IpAddr,
    /// The address that it is sent to.
    pub destination: IpAddr,
    /// The number of its protocol.
    pub protocol: u8,
    /// The ports that it comes from and goes to; of ICMP the type, twice.
    pub ports: (u16, u16),
    /// What is to become of it; what meets something else is sent again.
    pub said: Verdict,
}

impl Order {
    /// The packets of a try.
    pub(crate) fn packets_of(&self, one: &Try) -> &Ranges {
        const NONE: &Ranges =
            &Ranges { ports: [const { Vec::new() }; PortProtocol::ALL.len()], icmp: Vec::new() };
        self.packets.get(one.packets).unwrap_or(NONE)
    }
}

/// What stands in the lab.
#[derive(Debug, Serialize, Deserialize)]
pub enum Scene {
    /// A host with these links that enforces a policy.
    Policy {
        /// The names and texts of the policy, with the place where it is what one held.
        sources: Vec<(String, String, Option<String>)>,
        /// The posture that it is in, if it is in one.
        posture: Option<String>,
        /// The host's links, with its addresses and their prefix lengths.
        links: Vec<(String, Vec<(IpAddr, u8)>)>,
        /// The networks that the host is on, where the policy leaves its addresses out.
        on_link: AddressSet,
    },
    /// A copy of what is in this network namespace.
    Copy(PathBuf),
    /// The same with other rules: as it would be.
    Otherwise {
        /// The network namespace.
        namespace: PathBuf,
        /// The tables of others that are there, by family (`nfgen_family`) and name.
        tables: Vec<(u8, String)>,
        /// The names and texts of the policy that is enforced besides; none is if there are none.
        sources: Vec<(String, String, Option<String>)>,
        /// As for a policy.
        on_link: AddressSet,
    },
}

/// What is sent between two ends.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Try {
    /// The host's link by which it comes in.
    pub link: String,
    /// The address that it is sent from.
    pub source: IpAddr,
    /// The address that it is sent to.
    pub destination: IpAddr,
    /// The port of the sender, where there is one.
    pub source_port: u16,
    /// One packet for each of those at this place of the order's.
    pub packets: usize,
    /// Whose socket listens at those ports; nobody listens if it is nobody's. Such tries come last, those
    /// with the same owner together.
    #[serde(default)]
    pub whose: Whose,
}

/// Ranges of ports and ICMP types, first and last.
#[derive(Clone, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Ranges {
    /// Ports, of each protocol in the order of `PortProtocol::ALL`.
    pub ports: [Vec<(u16, u16)>; PortProtocol::ALL.len()],
    /// ICMP types, numbered by the IP version.
    pub icmp: Vec<(u8, u8)>,
}

/// What the lab answers.
#[derive(Debug, Serialize, Deserialize)]
pub(super) enum Answer {
    /// The lab stands, and can be tried.
    Ready {
        /// What could not be copied, in words.
        missing: Vec<String>,
        /// Whether the kernel's connection tracking calls multicast router discovery invalid; `null` if
        /// nothing of that is tried.
        discovery_is_invalid: Option<bool>,
    },
    /// For one try, in their order: what became of its packets.
    Met(Vec<(String, Ranges)>),
    /// What became of all crossings, in their order: the verdict, or nothing where one never came to the rules.
    Crossed(Vec<Option<Verdict>>),
    /// All is done: how many packets were sent.
    Done(u64),
    /// It cannot be done: why, and ways out.
    Failed(String, Vec<String>),
}

/// One packet that is sent in the lab.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Shot {
    /// The first packet of a client to a port.
    Port(PortProtocol, u16),
    /// An ICMP message of a type.
    Icmp(u8),
}

impl Ranges {
    /// Every packet, in an order that is always the same.
    pub fn shots(&self) -> impl Iterator<Item = Shot> {
        let at = |(protocol, ranges): (PortProtocol, &'_ Vec<(u16, u16)>)| {
            let ports: Vec<u16> = ranges.iter().flat_map(|&(first, last)| first..=last).collect();
            ports.into_iter().map(move |port| Shot::Port(protocol, port))
        };
        let icmp = self.icmp.iter().flat_map(|&(first, last)| first..=last);
        PortProtocol::ALL.into_iter().zip(&self.ports).flat_map(at).chain(icmp.map(Shot::Icmp))
    }

    /// Whether something of an ICMP type is among them.
    pub(crate) fn has_icmp(&self, kind: u8) -> bool {
        self.icmp.iter().any(|it| (it.0..=it.1).contains(&kind))
    }

    /// How many packets these are.
    pub fn count(&self) -> u64 {
        let ports: u64 = self.ports.iter().flatten().map(|it| u64::from(it.1 - it.0) + 1).sum();
        ports + self.icmp.iter().map(|it| u64::from(it.1 - it.0) + 1).sum::<u64>()
    }

    /// All ports of some.
    pub fn ports<'r>(all: &(impl Iterator<Item = &'r Self> + Clone)) -> ByProtocol<Vec<u16>> {
        ByProtocol::new(|protocol| {
            let ranges = all.clone().flat_map(|it| &it.ports[protocol as usize]);
            let ports = RangeSet::from_ranges(ranges.copied());
            ports.ranges().iter().flat_map(|&(first, last)| first..=last).collect()
        })
    }

    /// The packets given, in their order.
    pub fn of(shots: impl IntoIterator<Item = Shot>) -> Self {
        let mut ranges = Self::default();
        for shot in shots {
            match shot {
                Shot::Port(protocol, port) => extend(&mut ranges.ports[protocol as usize], port),
                Shot::Icmp(kind) => extend(&mut ranges.icmp, kind),
            }
        }
        ranges
    }

    /// All of some traffic that can be tried over an IP version.
    pub fn within(traffic: &TrafficSet, family: Family) -> Self {
        let icmp = match family {
            Family::V4 => &traffic.icmp,
            Family::V6 => &traffic.icmpv6,
        };
        Self {
            ports: PortProtocol::ALL.map(|it| traffic.ports[it].ranges().to_vec()),
            icmp: icmp.ranges().to_vec(),
        }
    }

    /// The same as traffic over an IP version.
    pub fn traffic(&self, family: Family) -> TrafficSet {
        let icmp = RangeSet::from_ranges(self.icmp.iter().copied());
        let none = RangeSet::empty;
        let mut traffic = match family {
            Family::V4 => TrafficSet::icmp(icmp, none()),
            Family::V6 => TrafficSet::icmp(none(), icmp),
        };
        let ports = |it: PortProtocol| self.ports[it as usize].iter().copied();
        traffic.ports = ByProtocol::new(|it| RangeSet::from_ranges(ports(it)));
        traffic
    }
}

/// Adds a value to sorted ranges: to the last one, if it follows on that.
fn extend<T: Copy + PartialEq + Next>(ranges: &mut Vec<(T, T)>, value: T) {
    match ranges.last_mut() {
        Some(range) if range.1.next() == Some(value) => range.1 = value,
        _ => ranges.push((value, value)),
    }
}

/// The number behind a number.
trait Next: Sized {
    fn next(self) -> Option<Self>;
}

impl Next for u16 {
    fn next(self) -> Option<Self> {
        self.checked_add(1)
    }
}

impl Next for u8 {
    fn next(self) -> Option<Self> {
        self.checked_add(1)
    }
}

#[cfg(test)]
mod tests {
    use super::{Ranges, Shot};

    #[test]
    fn packets_become_ranges_and_come_back() {
        let ports = [vec![(1, 3), (9, 9)], vec![(65_534, 65_535)], vec![(3_868, 3_868)]];
        let ranges = Ranges { ports, icmp: vec![(8, 8)] };
        let shots: Vec<Shot> = ranges.shots().collect();
        assert_eq!(shots.len(), 8);
        assert_eq!(ranges.count(), 8);
        assert_eq!(Ranges::of(shots), ranges);
    }
}
