//! A quick look at whether two conditions can have a packet in common.

use crate::plan::Condition;
use crate::space::{
    AddressSet, ByProtocol, Family, Packet, Piece, Point, PortProtocol, RangeSet, TrafficSet,
    Transport,
};

/// The smallest and largest values of the fields of a piece: two pieces whose hulls do not meet
/// have no packet in common, which is told from these alone.
#[derive(Clone, Copy, Debug)]
pub(super) struct Hull {
    source: Ends,
    destination: Ends,
    /// The first and the last port of each protocol, so that all are held against others at once.
    first_ports: ByProtocol<u16>,
    last_ports: ByProtocol<u16>,
    /// Whether it carries ICMP, ICMPv6, and other protocols, as bits.
    carries: u8,
}

/// Addresses; of IPv6 the network's half, which is enough to tell most apart.
#[derive(Clone, Copy, Debug)]
struct Ends {
    v4: (u32, u32),
    v6: (u64, u64),
}

impl Ends {
    fn of(set: &AddressSet) -> Self {
        let half = |value: u128| u64::try_from(value >> 64).unwrap_or(u64::MAX);
        Self {
            v4: ends(&set.v4).unwrap_or((1, 0)),
            v6: ends(&set.v6).map_or((1, 0), |(first, last)| (half(first), half(last))),
        }
    }
}

fn bits(carries: [bool; 3]) -> u8 {
    carries.iter().fold(0, |all, it| all << 1 | u8::from(*it))
}

/// No value at all.
const NONE: (u16, u16) = (1, 0);

fn ends<T: Point>(set: &RangeSet<T>) -> Option<(T, T)> {
    let ranges = set.ranges();
    Some((ranges.first()?.0, ranges.last()?.1))
}

impl Hull {
    /// The hull of a piece.
    pub(super) fn of(piece: &Piece) -> Self {
        Self::of_ends(&piece.traffic, &piece.source, &piece.destination)
    }

    /// The hull of the packets that meet a condition.
    pub(super) fn of_condition(condition: &Condition) -> Self {
        Self::of_ends(&condition.traffic, &condition.source, &condition.destination)
    }

    fn of_ends(traffic: &TrafficSet, source: &AddressSet, destination: &AddressSet) -> Self {
        let TrafficSet { ports, icmp, icmpv6, others } = traffic;
        let ports = ByProtocol::new(|it| ends(&ports[it]).unwrap_or(NONE));
        Self {
            source: Ends::of(source),
            destination: Ends::of(destination),
            first_ports: ByProtocol::new(|it| ports[it].0),
            last_ports: ByProtocol::new(|it| ports[it].1),
            carries: bits([!icmp.is_empty(), !icmpv6.is_empty(), !others.is_empty()]),
        }
    }

    /// The hull of a single packet.
    pub(super) fn of_packet(packet: &Packet) -> Self {
        let one = |address| Ends::of(&AddressSet::single(address));
        let family = packet.family();
        let (icmp, other) = match packet.transport {
            Transport::Ports { .. } => (false, false),
            Transport::Icmp { .. } => (true, false),
            Transport::Other { .. } => (false, true),
        };
        let ports = ByProtocol::new(|it| match packet.transport {
            Transport::Ports { protocol, destination, .. } if protocol == it => {
                (destination, destination)
            }
            _ => NONE,
        });
        Self {
            source: one(packet.source),
            destination: one(packet.destination),
            first_ports: ByProtocol::new(|it| ports[it].0),
            last_ports: ByProtocol::new(|it| ports[it].1),
            carries: bits([icmp && family == Family::V4, icmp && family == Family::V6, other]),
        }
    }

    /// Whether the two meet.
    pub(super) fn meets(&self, other: &Self) -> bool {
        fn meet<T: Ord + Copy>(a: (T, T), b: (T, T)) -> bool {
            (a.0.max(b.0) <= a.1) & (a.0.max(b.0) <= b.1)
        }
        let firsts = self.first_ports.values().zip(other.first_ports.values());
        let lasts = self.last_ports.values().zip(other.last_ports.values());
        // Without branches, nearly all of which would be guessed wrong.
        let ports =
            firsts.zip(lasts).fold(false, |any, ((a, b), (c, d))| any | (a.max(b) <= c.min(d)));
        let traffic = ports | (self.carries & other.carries != 0);
        let v4 =
            meet(self.source.v4, other.source.v4) & meet(self.destination.v4, other.destination.v4);
        let v6 =
            meet(self.source.v6, other.source.v6) & meet(self.destination.v6, other.destination.v6);
        traffic & (v4 | v6)
    }

    /// How much of all senders there is, of both IP versions together: all of one counts as much as all of the other.
    pub(super) fn senders(&self) -> u128 {
        let many = |ends: Option<(u64, u64)>| ends.map_or(0, |it| u128::from(it.1 - it.0) + 1);
        (many(self.senders_v4()) << 32) + many(self.senders_v6())
    }

    /// The senders over IPv4, if there are any.
    pub(crate) fn senders_v4(&self) -> Option<(u64, u64)> {
        some(self.source.v4)
    }

    /// The networks of the senders over IPv6, if there are any.
    pub(crate) fn senders_v6(&self) -> Option<(u64, u64)> {
        some(self.source.v6)
    }

    /// The ports of a protocol, if there are any.
    pub(super) fn ports(&self, protocol: PortProtocol) -> Option<(u64, u64)> {
        some((self.first_ports[protocol], self.last_ports[protocol]))
    }

    /// Whether there is any other traffic.
    pub(crate) fn portless(&self) -> bool {
        self.carries != 0
    }
}

/// Ends that are the wrong way round stand for nothing.
fn some<T: Into<u64>>((first, last): (T, T)) -> Option<(u64, u64)> {
    let (first, last) = (first.into(), last.into());
    (first <= last).then_some((first, last))
}

#[cfg(test)]
mod tests {
    use super::Hull;
    use crate::space::{AddressSet, Piece, PortProtocol, RangeSet, TrafficSet};

    fn piece(traffic: TrafficSet, source: AddressSet, destination: AddressSet) -> Piece {
        Piece { traffic, source, destination, ..Piece::full() }
    }

    fn v4(first: u32, last: u32) -> AddressSet {
        AddressSet::from_v4([(first, last)])
    }

    fn v6(network: u128) -> AddressSet {
        AddressSet::from_v6([(network << 64, (network << 64) + 9)])
    }

    fn tcp(first: u16, last: u16) -> TrafficSet {
        PortProtocol::Tcp.traffic(RangeSet::from_ranges([(first, last)]))
    }

    #[test]
    fn what_a_piece_has_not_its_hull_has_not() {
        let all = AddressSet::full;
        let hull = Hull::of(&piece(tcp(22, 80), v4(5, 9), all()));
        assert_eq!((hull.senders_v4(), hull.senders_v6()), (Some((5, 9)), None));
        assert_eq!(hull.ports(PortProtocol::Tcp), Some((22, 80)));
        assert_eq!((hull.ports(PortProtocol::Udp), hull.portless()), (None, false));
        let hull =
            Hull::of(&piece(TrafficSet::icmp(RangeSet::full(), RangeSet::empty()), v6(7), all()));
        assert_eq!((hull.senders_v4(), hull.senders_v6()), (None, Some((7, 7))));
        assert_eq!((hull.ports(PortProtocol::Tcp), hull.portless()), (None, true));
    }

    #[test]
    fn hulls_meet_where_every_field_does_in_one_version() {
        let one = Hull::of(&piece(tcp(22, 80), v4(5, 9), v4(20, 30)));
        let meets = |traffic, source, destination| {
            let other = Hull::of(&piece(traffic, source, destination));
            assert_eq!(one.meets(&other), other.meets(&one));
            one.meets(&other)
        };
        assert!(meets(tcp(80, 90), v4(9, 12), v4(30, 40)), "at the very ends");
        assert!(!meets(tcp(81, 90), v4(9, 12), v4(30, 40)));
        assert!(!meets(tcp(80, 90), v4(10, 12), v4(30, 40)));
        assert!(!meets(tcp(80, 90), v4(9, 12), v4(31, 40)));
        assert!(!meets(PortProtocol::Udp.traffic(RangeSet::full()), v4(9, 12), v4(30, 40)));
        // Senders of one version and receivers of the other are no packet's.
        assert!(!meets(tcp(80, 90), v6(7), v4(30, 40)));
        assert!(!meets(tcp(80, 90), v4(9, 12), v6(7)));
        let other = Hull::of(&piece(tcp(1, 99), v6(7), v6(8)));
        assert!(other.meets(&Hull::of(&piece(tcp(99, 99), v6(7), v6(8)))));
        assert!(!other.meets(&Hull::of(&piece(tcp(99, 99), v6(8), v6(8)))));
        assert!(!other.meets(&one));
    }
}
