//! Exact sets of packets of one direction, as lists of pieces.
//!
//! A piece is a condition on every field by itself. What is left of a piece when another is taken
//! away is again a few pieces, one for each field in which the two differ; since fields are sets
//! of ranges, a field costs one piece however many ranges it has.

use super::{
    AddressSet, ByProtocol, ConnectionState, Direction, Family, ICMP, ICMPV6, NameSet, Packet,
    PortProtocol, RangeSet, RelationSet, SourcePorts, StateSet, TrafficSet, Transport,
};
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Packets of one direction that pass a test on each field.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Piece {
    /// The traffic that they carry.
    pub traffic: TrafficSet,
    /// Where they come from.
    pub source: AddressSet,
    /// The addresses that they go to.
    pub destination: AddressSet,
    /// The ports they come from.
    pub source_ports: SourcePorts,
    /// The interfaces by which they come in.
    pub in_interfaces: NameSet,
    /// The interfaces by which they go out.
    pub out_interfaces: NameSet,
    /// The programs that receive or send them.
    pub programs: NameSet,
    /// The users whose programs receive or send them.
    pub users: NameSet,
    /// The ports that their senders asked for where they were led elsewhere; 0 stands for those that
    /// were not.
    pub published: RangeSet<u16>,
    /// The states of their connections.
    pub states: StateSet,
    /// What the source is to a host whose addresses the policy does not list.
    pub source_is: RelationSet,
    /// What the destination is to it.
    pub destination_is: RelationSet,
}

impl Piece {
    /// Every packet that there is.
    #[must_use]
    pub fn full() -> Self {
        Self {
            traffic: TrafficSet::any(),
            source: AddressSet::full(),
            destination: AddressSet::full(),
            source_ports: SourcePorts::full(),
            in_interfaces: NameSet::full(),
            out_interfaces: NameSet::full(),
            programs: NameSet::full(),
            users: NameSet::full(),
            published: RangeSet::full(),
            states: StateSet::of(&ConnectionState::ALL),
            source_is: RelationSet::full(),
            destination_is: RelationSet::full(),
        }
    }

    /// Whether the piece holds the packet. Its direction is not looked at.
    #[must_use]
    pub fn contains(&self, packet: &Packet) -> bool {
        // What tells most conditions apart comes first.
        self.source.contains(packet.source)
            && self.traffic.contains(packet)
            && self.destination.contains(packet.destination)
            && self.states.contains(packet.state)
            && self.source_is.contains(packet.source_is)
            && self.destination_is.contains(packet.destination_is)
            && match packet.ports() {
                Some((source, _)) => self.source_ports.ports.contains(source),
                None => self.source_ports.portless,
            }
            && self.in_interfaces.contains(packet.in_interface.as_deref())
            && self.out_interfaces.contains(packet.out_interface.as_deref())
            && self.programs.contains(packet.program.as_deref())
            && self.users.contains(packet.user.as_deref())
            && self.published.contains(packet.asked.unwrap_or(0))
    }

    /// Whether any packet of an IP version is in the piece.
    #[must_use]
    pub fn has(&self, family: Family) -> bool {
        let named = !self.in_interfaces.is_empty()
            && !self.out_interfaces.is_empty()
            && !self.programs.is_empty()
            && !self.users.is_empty();
        named
            && !self.states.is_empty()
            && !self.source_is.is_empty()
            && !self.destination_is.is_empty()
            && self.source.has(family)
            && self.destination.has(family)
            && self.carries(family)
    }

    fn carries(&self, family: Family) -> bool {
        let traffic = &self.traffic;
        if traffic.has_ports() && !self.source_ports.ports.is_empty() {
            return !self.published.is_empty();
        }
        // What has no ports was asked for at none.
        if !self.published.contains(0) {
            return false;
        }
        let types = if family == Family::V4 { &traffic.icmp } else { &traffic.icmpv6 };
        self.source_ports.portless && (!types.is_empty() || !others(traffic, family).is_empty())
    }

    /// Whether no packet is in the piece.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        !self.has(Family::V4) && !self.has(Family::V6)
    }

    /// Whether each field by itself is within the other's field: then no packet of the piece is outside the other.
    #[must_use]
    pub fn is_within(&self, other: &Self) -> bool {
        // What tells most apart comes first.
        self.source.is_within(&other.source)
            && self.traffic.is_within(&other.traffic)
            && self.destination.is_within(&other.destination)
            && self.source_ports.is_within(&other.source_ports)
            && self.in_interfaces.is_within(&other.in_interfaces)
            && self.out_interfaces.is_within(&other.out_interfaces)
            && self.programs.is_within(&other.programs)
            && self.users.is_within(&other.users)
            && self.published.is_within(&other.published)
            && self.states.difference(other.states).is_empty()
            && self.source_is.difference(other.source_is).is_empty()
            && self.destination_is.difference(other.destination_is).is_empty()
    }

    /// How many ranges the piece is made of: what handling it costs.
    #[must_use]
    pub fn weight(&self) -> usize {
        let ends = [&self.source, &self.destination];
        let addresses = ends.map(|it| it.v4.ranges().len() + it.v6.ranges().len());
        let ports = self.source_ports.ports.ranges().len();
        self.traffic.pieces() + ports + addresses[0] + addresses[1]
    }

    /// The packets that are in both.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        Self {
            traffic: self.traffic.intersection(&other.traffic),
            source: self.source.intersection(&other.source),
            destination: self.destination.intersection(&other.destination),
            source_ports: self.source_ports.intersection(&other.source_ports),
            in_interfaces: self.in_interfaces.intersection(&other.in_interfaces),
            out_interfaces: self.out_interfaces.intersection(&other.out_interfaces),
            programs: self.programs.intersection(&other.programs),
            users: self.users.intersection(&other.users),
            published: self.published.intersection(&other.published),
            states: self.states.intersection(other.states),
            source_is: self.source_is.intersection(other.source_is),
            destination_is: self.destination_is.intersection(other.destination_is),
        }
    }

    /// Splits the piece: the part that is also in `other`, if there is one, and disjoint pieces
    /// that make up the rest.
    #[must_use]
    pub fn split(self, other: &Self) -> (Option<Self>, Vec<Self>) {
        // What tells most apart comes first.
        let apart = self.source.intersection(&other.source).is_empty()
            || self.traffic.intersection(&other.traffic).is_empty();
        let both = if apart { None } else { Some(self.intersection(other)) };
        let Some(both) = both.filter(|both| !both.is_empty()) else { return (None, vec![self]) };
        let mut rest = Vec::new();
        let mut left = self;
        // Field by field: what is not in the other's field is outside, whatever the later fields
        // are; from then on only what is in it matters.
        macro_rules! cut {
            ($field:ident, $outside:expr) => {
                let outside = $outside;
                if !outside.is_empty() {
                    let piece = Self { $field: outside, ..left.clone() };
                    if !piece.is_empty() {
                        rest.push(piece);
                    }
                    left.$field = both.$field.clone();
                }
            };
        }
        cut!(traffic, left.traffic.difference(&other.traffic));
        cut!(source, left.source.difference(&other.source));
        cut!(destination, left.destination.difference(&other.destination));
        cut!(source_ports, left.source_ports.difference(&other.source_ports));
        cut!(in_interfaces, left.in_interfaces.difference(&other.in_interfaces));
        cut!(out_interfaces, left.out_interfaces.difference(&other.out_interfaces));
        cut!(programs, left.programs.difference(&other.programs));
        cut!(users, left.users.difference(&other.users));
        cut!(published, left.published.difference(&other.published));
        cut!(states, left.states.difference(other.states));
        cut!(source_is, left.source_is.difference(other.source_is));
        cut!(destination_is, left.destination_is.difference(other.destination_is));
        (Some(both), rest)
    }

    /// The piece without what can never occur: fields of IP versions, protocols and ports that
    /// no packet of the piece has.
    #[must_use]
    pub fn tidy(mut self) -> Self {
        if self.source_ports.ports.is_empty() {
            self.traffic.ports = ByProtocol::new(|_| RangeSet::empty());
        }
        if !self.source_ports.portless {
            self.traffic.icmp = RangeSet::empty();
            self.traffic.icmpv6 = RangeSet::empty();
            self.traffic.others = RangeSet::empty();
        }
        if !self.published.contains(0) {
            self.traffic.icmp = RangeSet::empty();
            self.traffic.icmpv6 = RangeSet::empty();
            self.traffic.others = RangeSet::empty();
        } else if !self.traffic.has_ports() {
            self.published = RangeSet::full();
        }
        let (v4, v6) = (self.has(Family::V4), self.has(Family::V6));
        if v4 != v6 {
            let family = if v4 { Family::V4 } else { Family::V6 };
            self.source = self.source.only(family);
            self.destination = self.destination.only(family);
            self.traffic = self.traffic.of_family(family);
        }
        self
    }

    /// A packet of the piece, as like `wanted` as it allows; `None` if there is none.
    #[must_use]
    pub fn example(&self, wanted: &Packet, direction: Direction) -> Option<Packet> {
        let liked = wanted.family();
        let other = if liked == Family::V4 { Family::V6 } else { Family::V4 };
        let family = [liked, other].into_iter().find(|&family| self.has(family))?;
        let name = |set: &NameSet, wanted: &Option<String>| {
            if set.contains(wanted.as_deref()) {
                wanted.clone()
            } else {
                set.example().map(str::to_owned)
            }
        };
        let relation = |set: RelationSet, wanted| {
            if set.contains(wanted) { Some(wanted) } else { set.iter().next() }
        };
        let state = if self.states.contains(wanted.state) {
            wanted.state
        } else {
            self.states.iter().next()?
        };
        let source = address(&self.source, family, wanted.source)?;
        let destination = address(&self.destination, family, wanted.destination)?;
        let destination = match (source == destination).then(|| following(destination)).flatten() {
            Some(it) if self.destination.contains(it) => it,
            _ => destination,
        };
        let transport = self.transport(wanted, family)?;
        let asked =
            [wanted.asked.unwrap_or(0), 0].into_iter().find(|it| self.published.contains(*it));
        let asked = match transport {
            Transport::Ports { .. } => asked.or(self.published.first()),
            _ => None,
        };
        Some(Packet {
            direction,
            in_interface: name(&self.in_interfaces, &wanted.in_interface),
            out_interface: name(&self.out_interfaces, &wanted.out_interface),
            source,
            destination,
            transport,
            state,
            program: name(&self.programs, &wanted.program),
            user: name(&self.users, &wanted.user),
            asked: asked.filter(|it| *it > 0),
            source_is: relation(self.source_is, wanted.source_is)?,
            destination_is: relation(self.destination_is, wanted.destination_is)?,
        })
    }

    fn transport(&self, wanted: &Packet, family: Family) -> Option<Transport> {
        let near = |set: &RangeSet<u16>, wanted: u16| {
            if set.contains(wanted) { Some(wanted) } else { set.first() }
        };
        let (from, to) = wanted.ports().unwrap_or((49_152, 443));
        let source = near(&self.source_ports.ports, from);
        let traffic = &self.traffic;
        let with_ports = |protocol: PortProtocol| {
            let (source, destination) = source.zip(near(&traffic.ports[protocol], to))?;
            Some(Transport::Ports { protocol, source, destination })
        };
        let types = if family == Family::V4 { &traffic.icmp } else { &traffic.icmpv6 };
        let portless = || {
            let other = others(traffic, family).first();
            let icmp = types.first().map(|kind| Transport::Icmp { kind });
            icmp.or(other.map(|protocol| Transport::Other { protocol }))
                .filter(|_| self.source_ports.portless && self.published.contains(0))
        };
        let liked = match wanted.transport {
            Transport::Ports { protocol, .. } => with_ports(protocol),
            _ => None,
        };
        liked.or_else(|| PortProtocol::ALL.into_iter().find_map(with_ports)).or_else(portless)
    }
}

/// The protocols by number that no other field speaks for.
fn others(traffic: &TrafficSet, family: Family) -> RangeSet<u8> {
    if traffic.others.is_empty() {
        return RangeSet::empty();
    }
    let own = if family == Family::V4 { ICMP } else { ICMPV6 };
    traffic.others.difference(&PortProtocol::numbers().union(&RangeSet::single(own)))
}

fn address(set: &AddressSet, family: Family, wanted: IpAddr) -> Option<IpAddr> {
    if Family::of(wanted) == family && set.contains(wanted) {
        Some(wanted)
    } else {
        set.likely(family)
    }
}

/// The address behind another one.
fn following(address: IpAddr) -> Option<IpAddr> {
    match address {
        IpAddr::V4(it) => it.to_bits().checked_add(1).map(|it| Ipv4Addr::from_bits(it).into()),
        IpAddr::V6(it) => it.to_bits().checked_add(1).map(|it| Ipv6Addr::from_bits(it).into()),
    }
}

/// Takes `other` away from every piece.
#[must_use]
pub fn without(pieces: Vec<Piece>, other: &Piece) -> Vec<Piece> {
    pieces.into_iter().flat_map(|piece| piece.split(other).1).collect()
}

/// Joins pieces that differ in one field only, so that a list reads well. The pieces must be
/// disjoint; so are the joined ones, and they hold the same packets.
#[must_use]
// Not every field has a default, and for one that has, nothing is said more plainly.
#[allow(clippy::mem_replace_with_default)]
pub fn join(pieces: Vec<Piece>) -> Vec<Piece> {
    let mut pieces: Vec<Piece> = pieces.into_iter().map(Piece::tidy).collect();
    loop {
        let before = pieces.len();
        macro_rules! fold {
            ($field:ident, $nothing:expr, $union:expr) => {
                let mut by_rest: indexed::Indexed<Piece, _> = indexed::Indexed::new();
                for mut piece in pieces {
                    let part = std::mem::replace(&mut piece.$field, $nothing);
                    match by_rest.get_mut(&piece) {
                        Some(known) => *known = $union(&*known, &part),
                        None => by_rest.push(piece, part),
                    }
                }
                pieces =
                    by_rest.into_iter().map(|(rest, $field)| Piece { $field, ..rest }).collect();
            };
        }
        fold!(source, AddressSet::empty(), AddressSet::union);
        fold!(destination, AddressSet::empty(), AddressSet::union);
        fold!(traffic, TrafficSet::empty(), TrafficSet::union);
        let no_ports = SourcePorts { ports: RangeSet::empty(), portless: false };
        fold!(source_ports, no_ports.clone(), SourcePorts::union);
        fold!(in_interfaces, NameSet::only([]), NameSet::union);
        fold!(out_interfaces, NameSet::only([]), NameSet::union);
        fold!(programs, NameSet::only([]), NameSet::union);
        fold!(users, NameSet::only([]), NameSet::union);
        fold!(published, RangeSet::empty(), RangeSet::union);
        fold!(states, StateSet::of(&[]), |a: &StateSet, b: &StateSet| a.union(*b));
        let both = |a: &RelationSet, b: &RelationSet| a.union(*b);
        fold!(source_is, RelationSet::empty(), both);
        fold!(destination_is, RelationSet::empty(), both);
        pieces = join_versions(pieces);
        if pieces.len() == before {
            return pieces;
        }
    }
}

/// Joins pieces of one IP version with pieces of the other that are otherwise alike: addresses of
/// different versions never meet in a packet.
fn join_versions(pieces: Vec<Piece>) -> Vec<Piece> {
    let mut joined: Vec<Piece> = Vec::with_capacity(pieces.len());
    let mut open: HashMap<(Piece, Family), Vec<usize>> = HashMap::new();
    for piece in pieces {
        let family = match (piece.has(Family::V4), piece.has(Family::V6)) {
            (true, false) => Family::V4,
            (false, true) => Family::V6,
            _ => {
                joined.push(piece);
                continue;
            }
        };
        let other = if family == Family::V4 { Family::V6 } else { Family::V4 };
        let nobody = AddressSet::empty;
        let rest = Piece { source: nobody(), destination: nobody(), ..piece.clone() };
        if let Some(at) = open.get_mut(&(rest.clone(), other)).and_then(Vec::pop) {
            let known = &mut joined[at];
            known.source = known.source.union(&piece.source);
            known.destination = known.destination.union(&piece.destination);
        } else {
            open.entry((rest, family)).or_default().push(joined.len());
            joined.push(piece);
        }
    }
    joined
}

/// A map that keeps the order in which it was filled.
mod indexed {
    use std::collections::HashMap;
    use std::hash::Hash;

    pub(super) struct Indexed<K, V> {
        list: Vec<V>,
        at: HashMap<K, usize>,
    }

    impl<K: Hash + Eq, V> Indexed<K, V> {
        pub(super) fn new() -> Self {
            Self { list: Vec::new(), at: HashMap::new() }
        }

        pub(super) fn get_mut(&mut self, key: &K) -> Option<&mut V> {
            self.at.get(key).map(|&at| &mut self.list[at])
        }

        pub(super) fn push(&mut self, key: K, value: V) {
            self.at.insert(key, self.list.len());
            self.list.push(value);
        }

        pub(super) fn into_iter(self) -> impl Iterator<Item = (K, V)> {
            let mut keys: Vec<(usize, K)> =
                self.at.into_iter().map(|(key, at)| (at, key)).collect();
            keys.sort_unstable_by_key(|it| it.0);
            keys.into_iter().map(|it| it.1).zip(self.list)
        }
    }
}
