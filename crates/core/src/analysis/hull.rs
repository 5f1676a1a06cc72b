//! A quick look at whether two conditions can have a packet in common.

use crate::space::{AddressSet, ByProtocol, Piece, Point, PortProtocol, RangeSet, TrafficSet};

/// The smallest and largest values of the fields of a piece: two pieces whose hulls do not meet
/// have no packet in common, which is told from these alone.
#[derive(Clone, Copy, Debug)]
pub struct Hull {
    source: Ends,
    destination: Ends,
    ports: ByProtocol<(u16, u16)>,
    /// Whether it carries ICMP, ICMPv6, and other protocols.
    carries: [bool; 3],
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

fn ends<T: Point>(set: &RangeSet<T>) -> Option<(T, T)> {
    let ranges = set.ranges();
    Some((ranges.first()?.0, ranges.last()?.1))
}

impl Hull {
    /// The hull of a piece.
    pub fn of(piece: &Piece) -> Self {
        let TrafficSet { ports, icmp, icmpv6, others } = &piece.traffic;
        Self {
            source: Ends::of(&piece.source),
            destination: Ends::of(&piece.destination),
            ports: ByProtocol::new(|it| ends(&ports[it]).unwrap_or((1, 0))),
            carries: [!icmp.is_empty(), !icmpv6.is_empty(), !others.is_empty()],
        }
    }

    /// Whether the two meet.
    pub fn meets(&self, other: &Self) -> bool {
        fn meet<T: Ord + Copy>(a: (T, T), b: (T, T)) -> bool {
            a.0.max(b.0) <= a.1.min(b.1)
        }
        let ports = PortProtocol::ALL.into_iter().any(|it| meet(self.ports[it], other.ports[it]));
        let traffic = ports || (0..3).any(|at| self.carries[at] && other.carries[at]);
        let v4 = meet(self.source.v4, other.source.v4)
            && meet(self.destination.v4, other.destination.v4);
        traffic
            && (v4
                || meet(self.source.v6, other.source.v6)
                    && meet(self.destination.v6, other.destination.v6))
    }

    /// The senders over IPv4, if there are any.
    pub fn senders_v4(&self) -> Option<(u64, u64)> {
        some(self.source.v4)
    }

    /// The networks of the senders over IPv6, if there are any.
    pub fn senders_v6(&self) -> Option<(u64, u64)> {
        some(self.source.v6)
    }

    /// The ports of a protocol, if there are any.
    pub fn ports(&self, protocol: PortProtocol) -> Option<(u64, u64)> {
        some(self.ports[protocol])
    }

    /// Whether there is any other traffic.
    pub fn portless(&self) -> bool {
        self.carries.contains(&true)
    }
}

/// Ends that are the wrong way round stand for nothing.
fn some<T: Into<u64>>((first, last): (T, T)) -> Option<(u64, u64)> {
    let (first, last) = (first.into(), last.into());
    (first <= last).then_some((first, last))
}
