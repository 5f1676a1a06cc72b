//! Packets of a piece to try before it is taken apart.

use crate::space::{
    AddressSet, ConnectionState, Direction, Family, ICMP, ICMPV6, NameSet, Packet, Piece, Point,
    PortProtocol, RangeSet, TrafficSet, Transport,
};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// How many are tried for each IP version.
const TRIES: u64 = 6;

/// Packets of the piece, spread over it, the same each time.
pub(crate) fn samples(piece: &Piece, direction: Direction) -> impl Iterator<Item = Packet> {
    Family::BOTH.into_iter().filter(|&family| piece.has(family)).flat_map(move |family| {
        (0..TRIES).filter_map(move |seed| sample(piece, direction, family, seed))
    })
}

fn sample(piece: &Piece, direction: Direction, family: Family, seed: u64) -> Option<Packet> {
    let mut dice = Dice(seed);
    let source = address(&piece.source, family, &mut dice)?;
    let destination = address(&piece.destination, family, &mut dice)?;
    let transport = transport(piece, family, &mut dice)?;
    let asked = match transport {
        // Most packets are led nowhere.
        Transport::Ports { .. } if piece.published.is_full() => 0,
        Transport::Ports { .. } => value(&piece.published, &mut dice)?,
        _ => 0,
    };
    let name = |set: &NameSet| set.example().map(str::to_owned);
    let state = if piece.states.contains(ConnectionState::New) {
        ConnectionState::New
    } else {
        piece.states.iter().next()?
    };
    Some(Packet {
        direction,
        in_interface: name(&piece.in_interfaces),
        out_interface: name(&piece.out_interfaces),
        source,
        destination,
        transport,
        state,
        program: name(&piece.programs),
        user: name(&piece.users),
        asked: Some(asked).filter(|it| *it > 0),
        source_is: piece.source_is.iter().next()?,
        destination_is: piece.destination_is.iter().next()?,
    })
}

fn transport(piece: &Piece, family: Family, dice: &mut Dice) -> Option<Transport> {
    let TrafficSet { ports, icmp, icmpv6, others } = &piece.traffic;
    let source = value(&piece.source_ports.ports, dice);
    let mut choices = Vec::new();
    for (protocol, set) in ports.iter() {
        if let Some((source, destination)) = source.zip(value(set, dice)) {
            choices.push(Transport::Ports { protocol, source, destination });
        }
    }
    if piece.source_ports.portless && piece.published.contains(0) {
        let (types, own) = if family == Family::V4 { (icmp, ICMP) } else { (icmpv6, ICMPV6) };
        choices.extend(value(types, dice).map(|kind| Transport::Icmp { kind }));
        let spoken_for = |number: &u8| *number == own || PortProtocol::of_number(*number).is_some();
        let other = value(others, dice).filter(|number| !spoken_for(number));
        choices.extend(other.map(|protocol| Transport::Other { protocol }));
    }
    let at = dice.below(choices.len())?;
    choices.get(at).copied()
}

fn address(set: &AddressSet, family: Family, dice: &mut Dice) -> Option<IpAddr> {
    match family {
        Family::V4 => value(&set.v4, dice).map(|bits| Ipv4Addr::from_bits(bits).into()),
        Family::V6 => value(&set.v6, dice).map(|bits| Ipv6Addr::from_bits(bits).into()),
    }
}

/// One of the values of a set: an end of a range, or one in the middle of it.
fn value<T: Point + Between>(set: &RangeSet<T>, dice: &mut Dice) -> Option<T> {
    let ranges = set.ranges();
    let (first, last) = ranges[dice.below(ranges.len())?];
    Some(match dice.0 % 4 {
        0 => first,
        1 => last,
        _ => T::between(first, last, dice.next()),
    })
}

/// Numbers between two others.
trait Between {
    fn between(first: Self, last: Self, chance: u64) -> Self;
}

macro_rules! between {
    ($($kind:ty),*) => {$(
        impl Between for $kind {
            fn between(first: Self, last: Self, chance: u64) -> Self {
                let wide = (u128::from(chance) << 64) | u128::from(chance.rotate_left(17));
                let span = u128::from(last - first);
                let step = span.checked_add(1).map_or(wide, |all| wide % all);
                first + Self::try_from(step).unwrap_or(0)
            }
        }
    )*};
}
between!(u8, u16, u32, u128);

/// Numbers that are spread well and are the same each time: SplitMix64 (Steele, Lea, Flood: Fast
/// Splittable Pseudorandom Number Generators, 2014).
struct Dice(u64);

impl Dice {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut mixed = self.0;
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    /// A number below `end`; `None` if there is none.
    fn below(&mut self, end: usize) -> Option<usize> {
        let end = u64::try_from(end).ok().filter(|&end| end > 0)?;
        usize::try_from(self.next() % end).ok()
    }
}
