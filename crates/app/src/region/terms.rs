//! Sets of addresses and of traffic as terms.

use tipstaff_core::space::{
    AddressSet, Block, Family, ICMP, ICMPV6, Nested, PortProtocol, RangeSet, TrafficSet,
    icmp_kinds, loopback,
};

/// Whether the words for some traffic tell the IP version.
pub(super) fn carries_version(traffic: &TrafficSet) -> bool {
    let ports = traffic.has_ports() || !traffic.others.is_empty();
    !ports && traffic.icmp.is_empty() != traffic.icmpv6.is_empty()
}

/// The smallest network of one IP version that holds the set.
pub(super) fn enclosing(set: &AddressSet) -> Option<Block> {
    let ends = |first: u128, last: u128, bits: u32| {
        let same = (first ^ last).leading_zeros() - (128 - bits);
        (same, if same == 0 { 0 } else { first >> (bits - same) << (bits - same) })
    };
    let (v4, v6) = (set.v4.ranges(), set.v6.ranges());
    let text = match (v4.first().zip(v4.last()), v6.first().zip(v6.last())) {
        (Some((first, last)), None) => {
            let (length, base) = ends(first.0.into(), last.1.into(), 32);
            let base = u32::try_from(base).ok()?;
            format!("{}/{length}", std::net::Ipv4Addr::from_bits(base))
        }
        (None, Some((first, last))) => {
            let (length, base) = ends(first.0, last.1, 128);
            format!("{}/{length}", std::net::Ipv6Addr::from_bits(base))
        }
        _ => return None,
    };
    Block::parse(&text).ok()
}

/// Sets of more ranges are not looked through for exceptions within exceptions.
const MOST_RANGES: usize = 1_000;

/// A set among `all` as networks with exceptions that have exceptions, if those are fewer than `than`.
pub(super) fn nested(
    set: &AddressSet,
    all: &AddressSet,
    than: usize,
) -> Option<(Vec<String>, Vec<String>)> {
    if set.v4.ranges().len() + set.v6.ranges().len() > MOST_RANGES {
        return None;
    }
    let list = set.nested(&all.difference(&loopback()));
    if list.iter().map(Nested::count).sum::<usize>() >= than {
        return None;
    }
    let wide: Vec<Family> = list.iter().filter_map(Nested::version).collect();
    if wide.len() == list.len() && Family::BOTH.iter().all(|it| wide.contains(it) || !all.has(*it))
    {
        let except = list.iter().flat_map(Nested::exceptions).collect();
        return Some((vec!["anywhere".into()], except));
    }
    Some(match &list[..] {
        [only] if only.version().is_none() => (vec![only.network.to_string()], only.exceptions()),
        several => (several.iter().map(ToString::to_string).collect(), Vec::new()),
    })
}

/// A set as networks and ranges, whichever is shorter for each part.
pub(super) fn written(set: &AddressSet) -> Vec<String> {
    let mut list = Vec::new();
    let mut part = |part: AddressSet, range: String| {
        let blocks = part.blocks();
        if blocks.len() <= 2 {
            list.extend(blocks.iter().map(ToString::to_string));
        } else {
            list.push(range);
        }
    };
    for &(first, last) in set.v4.ranges() {
        let ends = [first, last].map(std::net::Ipv4Addr::from_bits);
        part(AddressSet::from_v4([(first, last)]), format!("{}-{}", ends[0], ends[1]));
    }
    for &(first, last) in set.v6.ranges() {
        let ends = [first, last].map(std::net::Ipv6Addr::from_bits);
        part(AddressSet::from_v6([(first, last)]), format!("{}-{}", ends[0], ends[1]));
    }
    list
}

/// The traffic of packets of one IP version, so that its kinds of ICMP go by their names: with the types that
/// mean the same in the other version.
pub(super) fn by_meaning(set: &TrafficSet, one: Option<Family>) -> TrafficSet {
    let mut both = set.clone();
    for kind in icmp_kinds() {
        let (Some(v4), Some(v6)) = (kind.v4, kind.v6) else { continue };
        match one {
            Some(Family::V4) if set.icmp.contains(v4) && !set.icmp.is_full() => {
                both.icmpv6 = both.icmpv6.union(&RangeSet::single(v6));
            }
            Some(Family::V6) if set.icmpv6.contains(v6) && !set.icmpv6.is_full() => {
                both.icmp = both.icmp.union(&RangeSet::single(v4));
            }
            _ => {}
        }
    }
    both
}

/// Traffic, or all traffic but some, whichever is shorter.
pub(super) fn traffic(set: &TrafficSet, one: Option<Family>) -> String {
    // Numbers and types that no packet of these IP versions has by themselves.
    let mut unheard = PortProtocol::numbers();
    if let Some(family) = one {
        let own = if family == Family::V4 { ICMP } else { ICMPV6 };
        unheard = unheard.union(&RangeSet::single(own));
    }
    let mut missing = TrafficSet::any().difference(set);
    missing.others = missing.others.difference(&unheard);
    match one {
        Some(Family::V4) => missing.icmpv6 = RangeSet::empty(),
        Some(Family::V6) => missing.icmp = RangeSet::empty(),
        None => {}
    }
    if missing.is_empty() {
        TrafficSet::any().to_string()
    } else if missing.pieces() < set.pieces() {
        format!("any except {}", by_meaning(&missing, one))
    } else {
        by_meaning(set, one).to_string()
    }
}
