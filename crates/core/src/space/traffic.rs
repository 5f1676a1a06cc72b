//! Exact sets of what a packet can carry: protocol, destination port, ICMP type.

use super::protocol::{ICMP, ICMPV6, IGMP, TCP, UDP};
use super::{Family, Packet, RangeSet, Transport};
use std::fmt;

/// A set of kinds of traffic. ICMP types are kept per IP version, since the numbers differ.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct TrafficSet {
    /// TCP, by destination port.
    pub tcp: RangeSet<u16>,
    /// UDP, by destination port.
    pub udp: RangeSet<u16>,
    /// ICMP in IPv4 packets, by type.
    pub icmp: RangeSet<u8>,
    /// ICMPv6 in IPv6 packets, by type.
    pub icmpv6: RangeSet<u8>,
    /// All other protocols by number. TCP and UDP in here mean nothing; ICMP's number stands for
    /// that protocol in IPv6 packets, ICMPv6's for that in IPv4 packets.
    pub others: RangeSet<u8>,
}

impl TrafficSet {
    /// No traffic.
    #[must_use]
    pub fn empty() -> Self {
        Self {
            tcp: RangeSet::empty(),
            udp: RangeSet::empty(),
            icmp: RangeSet::empty(),
            icmpv6: RangeSet::empty(),
            others: RangeSet::empty(),
        }
    }

    /// All traffic of every protocol.
    #[must_use]
    pub fn any() -> Self {
        Self {
            tcp: RangeSet::full(),
            udp: RangeSet::full(),
            icmp: RangeSet::full(),
            icmpv6: RangeSet::full(),
            others: RangeSet::full(),
        }
    }

    /// TCP to the given ports.
    #[must_use]
    pub fn tcp(ports: RangeSet<u16>) -> Self {
        Self { tcp: ports, ..Self::empty() }
    }

    /// UDP to the given ports.
    #[must_use]
    pub fn udp(ports: RangeSet<u16>) -> Self {
        Self { udp: ports, ..Self::empty() }
    }

    /// The traffic of a plain term: `22/tcp`, `6000-6063/tcp`, `53/tcp+udp`.
    #[must_use]
    pub fn of_ports(term: &str) -> Option<Self> {
        let (ports, protocols) = term.split_once('/')?;
        let (first, last) = ports.split_once('-').unwrap_or((ports, ports));
        let ports = RangeSet::from_ranges([(first.parse().ok()?, last.parse().ok()?)]);
        protocols.split('+').try_fold(Self::empty(), |all, word| match word {
            "tcp" => Some(all.union(&Self::tcp(ports.clone()))),
            "udp" => Some(all.union(&Self::udp(ports.clone()))),
            _ => None,
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
        match number {
            TCP => Self::tcp(RangeSet::full()),
            UDP => Self::udp(RangeSet::full()),
            number => Self {
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
        let ports = self.tcp.is_full() && self.udp.is_full();
        ports && self.icmp.is_full() && self.icmpv6.is_full() && self.others.is_full()
    }

    /// What either set holds.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        Self {
            tcp: self.tcp.union(&other.tcp),
            udp: self.udp.union(&other.udp),
            icmp: self.icmp.union(&other.icmp),
            icmpv6: self.icmpv6.union(&other.icmpv6),
            others: self.others.union(&other.others),
        }
    }

    /// What both sets hold.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        Self {
            tcp: self.tcp.intersection(&other.tcp),
            udp: self.udp.intersection(&other.udp),
            icmp: self.icmp.intersection(&other.icmp),
            icmpv6: self.icmpv6.intersection(&other.icmpv6),
            others: self.others.intersection(&other.others),
        }
    }

    /// What this set holds and the other does not.
    #[must_use]
    pub fn difference(&self, other: &Self) -> Self {
        Self {
            tcp: self.tcp.difference(&other.tcp),
            udp: self.udp.difference(&other.udp),
            icmp: self.icmp.difference(&other.icmp),
            icmpv6: self.icmpv6.difference(&other.icmpv6),
            others: self.others.difference(&other.others),
        }
    }

    /// The part that occurs in packets of one IP version; [`TrafficSet::any`] if that is all.
    #[must_use]
    pub fn of_family(&self, family: Family) -> Self {
        let (own, absent) = match family {
            Family::V4 => (&self.icmp, ICMP),
            Family::V6 => (&self.icmpv6, ICMPV6),
        };
        // Numbers that other fields speak for in this version.
        let spoken_for = || RangeSet::from_ranges([(TCP, TCP), (UDP, UDP), (absent, absent)]);
        let all = self.tcp.is_full()
            && self.udp.is_full()
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
        let ports = self.tcp.is_empty() && self.udp.is_empty();
        ports && self.icmp.is_empty() && self.icmpv6.is_empty() && self.others.is_empty()
    }

    /// How many ranges the set is made of.
    #[must_use]
    pub fn pieces(&self) -> usize {
        let ports = self.tcp.ranges().len() + self.udp.ranges().len();
        let types = self.icmp.ranges().len() + self.icmpv6.ranges().len();
        ports + types + self.others.ranges().len()
    }

    /// Whether the packet carries traffic of this set.
    #[must_use]
    pub fn contains(&self, packet: &Packet) -> bool {
        match packet.transport {
            Transport::Tcp { destination, .. } => self.tcp.contains(destination),
            Transport::Udp { destination, .. } => self.udp.contains(destination),
            Transport::Icmp { kind } => match packet.family() {
                Family::V4 => self.icmp.contains(kind),
                Family::V6 => self.icmpv6.contains(kind),
            },
            Transport::Other { protocol } => self.others.contains(protocol),
        }
    }
}

impl fmt::Display for TrafficSet {
    /// `80/tcp, 443/tcp+udp, icmp`, or `any`.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_any() {
            return out.write_str("any");
        }
        let both = self.tcp.intersection(&self.udp);
        let mut terms = Vec::new();
        for (ports, word) in [
            (self.tcp.difference(&both), "tcp"),
            (self.udp.difference(&both), "udp"),
            (both, "tcp+udp"),
        ] {
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
            for (types, word) in [(&self.icmp, "icmp"), (&self.icmpv6, "icmpv6")] {
                if !types.is_empty() {
                    terms.push(format!("{word} type {types}"));
                }
            }
        }
        for number in self.others.ranges().iter().flat_map(|&(first, last)| first..=last) {
            terms.push(match number {
                IGMP => "igmp".to_owned(),
                number => format!("proto:{number}"),
            });
        }
        out.write_str(&terms.join(", "))
    }
}
