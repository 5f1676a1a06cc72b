//! Exact sets of what a packet can carry: protocol, destination port, ICMP type.

use super::ports::{ByProtocol, PortProtocol};
use super::protocol::{ICMP, ICMPV6, IGMP};
use super::{Family, ICMP_KINDS, IcmpKind, Packet, RangeSet, Transport};
use std::fmt;

/// A set of kinds of traffic. ICMP types are kept per IP version, since the numbers differ.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct TrafficSet {
    /// The protocols with ports, by destination port.
    pub ports: ByProtocol<RangeSet<u16>>,
    /// ICMP in IPv4 packets, by type.
    pub icmp: RangeSet<u8>,
    /// ICMPv6 in IPv6 packets, by type.
    pub icmpv6: RangeSet<u8>,
    /// All other protocols by number. Those with ports mean nothing in here; ICMP's number stands for
    /// that protocol in IPv6 packets, ICMPv6's for that in IPv4 packets.
    pub others: RangeSet<u8>,
}

impl TrafficSet {
    /// A set that holds no traffic.
    #[must_use]
    pub fn empty() -> Self {
        Self {
            ports: ByProtocol::new(|_| RangeSet::empty()),
            icmp: RangeSet::empty(),
            icmpv6: RangeSet::empty(),
            others: RangeSet::empty(),
        }
    }

    /// All traffic of every protocol.
    #[must_use]
    pub fn any() -> Self {
        Self {
            ports: ByProtocol::new(|_| RangeSet::full()),
            icmp: RangeSet::full(),
            icmpv6: RangeSet::full(),
            others: RangeSet::full(),
        }
    }

    /// The traffic of a plain term: `22/tcp`, `6000-6063/tcp`, `53/tcp+udp`.
    #[must_use]
    pub(crate) fn of_ports(term: &str) -> Option<Self> {
        let (ports, protocols) = term.split_once('/')?;
        let (first, last) = ports.split_once('-').unwrap_or((ports, ports));
        let ports = RangeSet::from_ranges([(first.parse().ok()?, last.parse().ok()?)]);
        protocols.split('+').try_fold(Self::empty(), |all, word| {
            Some(all.union(&PortProtocol::parse(word)?.traffic(ports.clone())))
        })
    }

    /// ICMP of the given types: for IPv4, and for IPv6.
    #[must_use]
    pub fn icmp(v4: RangeSet<u8>, v6: RangeSet<u8>) -> Self {
        Self { icmp: v4, icmpv6: v6, ..Self::empty() }
    }

    /// Everything of one protocol, by its number.
    #[must_use]
    pub fn protocol(number: u8) -> Self {
        match PortProtocol::of_number(number) {
            Some(protocol) => protocol.traffic(RangeSet::full()),
            None => Self {
                icmp: if number == ICMP { RangeSet::full() } else { RangeSet::empty() },
                icmpv6: if number == ICMPV6 { RangeSet::full() } else { RangeSet::empty() },
                others: RangeSet::single(number),
                ..Self::empty()
            },
        }
    }

    /// Whether this is all traffic.
    #[must_use]
    pub fn is_any(&self) -> bool {
        let ports = self.ports.values().all(RangeSet::is_full);
        ports && self.icmp.is_full() && self.icmpv6.is_full() && self.others.is_full()
    }

    /// What either set holds.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        Self {
            ports: ByProtocol::new(|it| self.ports[it].union(&other.ports[it])),
            icmp: self.icmp.union(&other.icmp),
            icmpv6: self.icmpv6.union(&other.icmpv6),
            others: self.others.union(&other.others),
        }
    }

    /// What both sets hold.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        Self {
            ports: ByProtocol::new(|it| self.ports[it].intersection(&other.ports[it])),
            icmp: self.icmp.intersection(&other.icmp),
            icmpv6: self.icmpv6.intersection(&other.icmpv6),
            others: self.others.intersection(&other.others),
        }
    }

    /// Whether both sets hold some traffic.
    #[must_use]
    pub fn meets(&self, other: &Self) -> bool {
        self.ports.iter().any(|(protocol, ports)| ports.meets(&other.ports[protocol]))
            || self.icmp.meets(&other.icmp)
            || self.icmpv6.meets(&other.icmpv6)
            || self.others.meets(&other.others)
    }

    /// Whether the other set holds all that this one does.
    #[must_use]
    pub fn is_within(&self, other: &Self) -> bool {
        self.ports.iter().all(|(protocol, ports)| ports.is_within(&other.ports[protocol]))
            && self.icmp.is_within(&other.icmp)
            && self.icmpv6.is_within(&other.icmpv6)
            && self.others.is_within(&other.others)
    }

    /// What this set holds and the other does not.
    #[must_use]
    pub fn difference(&self, other: &Self) -> Self {
        Self {
            ports: ByProtocol::new(|it| self.ports[it].difference(&other.ports[it])),
            icmp: self.icmp.difference(&other.icmp),
            icmpv6: self.icmpv6.difference(&other.icmpv6),
            others: self.others.difference(&other.others),
        }
    }

    /// The part that occurs in packets of one IP version; [`TrafficSet::any`] if that is all.
    #[must_use]
    pub(crate) fn of_family(&self, family: Family) -> Self {
        let (own, absent) = match family {
            Family::V4 => (&self.icmp, ICMP),
            Family::V6 => (&self.icmpv6, ICMPV6),
        };
        // Numbers that other fields speak for in this version.
        let spoken_for = || PortProtocol::numbers().union(&RangeSet::single(absent));
        let all = self.ports.values().all(RangeSet::is_full)
            && own.is_full()
            && self.others.union(&spoken_for()).is_full();
        if all {
            return Self::any();
        }
        let mut part = self.clone();
        match family {
            Family::V4 => part.icmpv6 = RangeSet::empty(),
            Family::V6 => part.icmp = RangeSet::empty(),
        }
        if !part.others.is_empty() {
            part.others = part.others.difference(&spoken_for());
        }
        part
    }

    /// Whether the set holds nothing.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        !self.has_ports()
            && self.icmp.is_empty()
            && self.icmpv6.is_empty()
            && self.others.is_empty()
    }

    /// Whether the set holds traffic to any port.
    #[must_use]
    pub fn has_ports(&self) -> bool {
        self.ports.values().any(|it| !it.is_empty())
    }

    /// Whether the set holds traffic to this port, by any protocol.
    #[must_use]
    pub fn has_port(&self, port: u16) -> bool {
        self.ports.values().any(|it| it.contains(port))
    }

    /// How many ranges the set is made of.
    #[must_use]
    pub fn pieces(&self) -> usize {
        let ports: usize = self.ports.values().map(|it| it.ranges().len()).sum();
        let types = self.icmp.ranges().len() + self.icmpv6.ranges().len();
        ports + types + self.others.ranges().len()
    }

    /// Whether the packet carries traffic of this set.
    #[must_use]
    pub fn contains(&self, packet: &Packet) -> bool {
        match packet.transport {
            Transport::Ports { protocol, destination, .. } => {
                self.ports[protocol].contains(destination)
            }
            Transport::Icmp { kind } => match packet.family() {
                Family::V4 => self.icmp.contains(kind),
                Family::V6 => self.icmpv6.contains(kind),
            },
            Transport::Other { protocol } => self.others.contains(protocol),
        }
    }
}

impl PortProtocol {
    /// Its traffic to these ports.
    #[must_use]
    pub fn traffic(self, ports: RangeSet<u16>) -> TrafficSet {
        let mut traffic = TrafficSet::empty();
        traffic.ports[self] = ports;
        traffic
    }
}

impl fmt::Display for TrafficSet {
    /// `80/tcp, 443/tcp+udp, icmp`, or `any`.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_any() {
            return out.write_str("any");
        }
        let mut terms = Vec::new();
        for (ports, word) in by_word(&self.ports) {
            terms.extend(ports.ranges().iter().map(|&(first, last)| {
                if first == last {
                    format!("{first}/{word}")
                } else {
                    format!("{first}-{last}/{word}")
                }
            }));
        }
        if self.icmp.is_full() && self.icmpv6.is_full() {
            terms.push("icmp".into());
        } else {
            let (named, icmp, icmpv6) = kinds(&self.icmp, &self.icmpv6);
            terms.extend(named.into_iter().map(|kind| format!("icmp:{}", kind.name)));
            for (types, word) in [(&icmp, "icmp"), (&icmpv6, "icmpv6")] {
                if !types.is_empty() {
                    terms.push(format!("{word} type {types}"));
                }
            }
        }
        let others = self.others.difference(&PortProtocol::numbers());
        for number in others.ranges().iter().flat_map(|&(first, last)| first..=last) {
            terms.push(match number {
                IGMP => "igmp".to_owned(),
                number => format!("proto:{number}"),
            });
        }
        out.write_str(&terms.join(", "))
    }
}

/// The kinds of ICMP by name that these types make up over both versions, and the types that are left. Many
/// are better told by their numbers.
fn kinds(
    icmp: &RangeSet<u8>,
    icmpv6: &RangeSet<u8>,
) -> (Vec<&'static IcmpKind>, RangeSet<u8>, RangeSet<u8>) {
    const FEW: usize = 8;
    let whole = |it: &&IcmpKind| {
        it.v4.is_none_or(|it| icmp.contains(it)) && it.v6.is_none_or(|it| icmpv6.contains(it))
    };
    let named: Vec<&IcmpKind> = ICMP_KINDS.iter().filter(whole).collect();
    if named.len() > FEW {
        return (Vec::new(), icmp.clone(), icmpv6.clone());
    }
    let all = |of: fn(&IcmpKind) -> Option<u8>| {
        let types = named.iter().filter_map(|it| of(it));
        RangeSet::from_ranges(types.map(|it| (it, it)))
    };
    let (v4, v6) = (all(|it| it.v4), all(|it| it.v6));
    (named, icmp.difference(&v4), icmpv6.difference(&v6))
}

/// The ports that only one protocol has with the word for it, then those that several share: `tcp+udp`.
fn by_word(ports: &ByProtocol<RangeSet<u16>>) -> Vec<(RangeSet<u16>, String)> {
    let count = PortProtocol::ALL.len();
    let mut choices: Vec<u32> = (1..1 << count).collect();
    choices.sort_by_key(|choice| choice.count_ones());
    let exactly = |choice: u32| {
        let is_in = |protocol: PortProtocol| choice & 1 << protocol as u32 != 0;
        let mut here = RangeSet::full();
        for (protocol, set) in ports.iter() {
            here = if is_in(protocol) { here.intersection(set) } else { here.difference(set) };
        }
        let words: Vec<&str> = PortProtocol::ALL
            .into_iter()
            .filter(|it| is_in(*it))
            .map(PortProtocol::as_str)
            .collect();
        (here, words.join("+"))
    };
    choices.into_iter().map(exactly).filter(|it| !it.0.is_empty()).collect()
}
