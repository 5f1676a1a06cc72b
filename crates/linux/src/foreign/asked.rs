//! What comparisons of others ask of a packet.

use super::field::{Field, Loaded};
use crate::ruleset::{KernelKey, before, interface_key, largest, set_of, state_bit};
use tipstaff_core::plan::InterfaceTest;
use tipstaff_core::program::{End, Test};
use tipstaff_core::space::{AddressSet, ConnectionState, Family, RangeSet, StateSet};
use tipstaff_wire::nf_tables::{Compare, FAMILY_IPV4, FAMILY_IPV6, fib};

/// Inclusive ranges of bytes.
pub(super) type Ranges = Vec<(Vec<u8>, Vec<u8>)>;

/// What is asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Asked {
    /// All of these hold.
    All(Vec<Test>),
    /// One of these does, and no packet fits two.
    Any(Vec<Test>),
    /// It cannot be told; what it looks at.
    Unknown(String),
}

/// What no packet passes.
pub(super) fn never() -> Asked {
    Asked::All(vec![Test::Protocol(RangeSet::empty())])
}

/// What a comparison with a value asks.
pub(super) fn compared(loaded: &Loaded, op: Compare, data: &[u8]) -> Asked {
    if let (Field::State, Some(asked)) = (&loaded.field, state(loaded, op, data)) {
        return asked;
    }
    let data = data.to_vec();
    let (least, most) = (vec![0; data.len()], largest(data.len()));
    let above = || before_end(&data).map(|it| (it, most.clone()));
    let below = || before(&data).map(|it| (least.clone(), it));
    let (ranges, inverted): (Ranges, bool) = match op {
        Compare::Equal => (vec![(data.clone(), data)], false),
        Compare::NotEqual => (vec![(data.clone(), data)], true),
        // NFT_CMP_LT, NFT_CMP_LTE, NFT_CMP_GT, NFT_CMP_GTE (enum nft_cmp_ops).
        Compare::Less => (below().into_iter().collect(), false),
        Compare::Unknown(3) => (vec![(least, data)], false),
        Compare::Unknown(4) => (above().into_iter().collect(), false),
        Compare::Unknown(5) => (vec![(data, most)], false),
        Compare::Unknown(_) => return Asked::Unknown("what it compares otherwise".into()),
    };
    among(loaded, &ranges, inverted)
}

/// The smallest key behind one.
fn before_end(key: &[u8]) -> Option<Vec<u8>> {
    let mut next = key.to_vec();
    for byte in next.iter_mut().rev() {
        let (sum, over) = byte.overflowing_add(1);
        *byte = sum;
        if !over {
            return Some(next);
        }
    }
    None
}

/// What it asks that what is loaded is among some values, or not among them.
pub(super) fn among(loaded: &Loaded, ranges: &Ranges, inverted: bool) -> Asked {
    match &loaded.field {
        Field::Other(words) => return Asked::Unknown(words.clone()),
        Field::InInterface | Field::OutInterface => {
            return interfaces(loaded, ranges, inverted);
        }
        _ => {}
    }
    let Some(ranges) = unmasked(loaded, ranges) else {
        return Asked::Unknown("single bits of what a policy names as a whole".into());
    };
    let found = match loaded.field {
        Field::Protocol => numbers(&ranges, inverted).map(Test::Protocol),
        Field::SourcePort => numbers(&ranges, inverted).map(Test::SourcePort),
        Field::DestinationPort => numbers(&ranges, inverted).map(Test::DestinationPort),
        Field::IcmpType(_) => numbers(&ranges, inverted).map(Test::IcmpType),
        Field::Address(end, family) => addresses(&ranges, inverted, family).map(|it| match end {
            End::Source => Test::Source(it),
            End::Destination => Test::Destination(it),
        }),
        Field::Version => {
            return version(&ranges, inverted, [vec![FAMILY_IPV4], vec![FAMILY_IPV6]]);
        }
        Field::EtherType => {
            return version(&ranges, inverted, [vec![0x08, 0x00], vec![0x86, 0xdd]]);
        }
        Field::State => return states(&ranges, inverted),
        Field::Kind(end) => return kind(end, &ranges, inverted),
        Field::InInterface | Field::OutInterface | Field::Other(_) => None,
        // Whoever knows the interfaces puts their names in before.
        Field::InNumber | Field::OutNumber => {
            return Asked::Unknown("the number of an interface that is not there".into());
        }
    };
    found.map_or_else(
        || Asked::Unknown("values of another length than theirs".into()),
        |it| Asked::All(vec![it]),
    )
}

/// The values that fit, where only some bits are compared: those are the first ones.
fn unmasked(loaded: &Loaded, ranges: &Ranges) -> Option<Ranges> {
    let Some(mask) = &loaded.mask else { return Some(ranges.clone()) };
    let bits: String = mask.iter().map(|it| format!("{it:08b}")).collect();
    if !matches!(loaded.field, Field::Address(..)) || bits.trim_start_matches('1').contains('1') {
        return None;
    }
    let whole = loaded.field.length();
    let fill = |key: &[u8], rest: u8| -> Vec<u8> {
        (0..whole)
            .map(|at| {
                let (byte, kept) = (key.get(at).unwrap_or(&0), mask.get(at).unwrap_or(&0));
                byte & kept | rest & !kept
            })
            .collect()
    };
    let mut found = Vec::new();
    for (first, last) in ranges {
        // What is compared has none of the other bits.
        let fits = fill(first, 0).starts_with(first) && fill(last, 0).starts_with(last);
        if first != last || first.len() > whole {
            return None;
        }
        if fits {
            found.push((fill(first, 0), fill(last, 0xff)));
        }
    }
    Some(found)
}

fn numbers<T: KernelKey>(ranges: &Ranges, inverted: bool) -> Option<RangeSet<T>> {
    let found = set_of::<T>(ranges)?;
    Some(if inverted { RangeSet::full().difference(&found) } else { found })
}

fn addresses(ranges: &Ranges, inverted: bool, family: Family) -> Option<AddressSet> {
    Some(match family {
        Family::V4 => AddressSet { v4: numbers::<u32>(ranges, inverted)?, v6: RangeSet::empty() },
        Family::V6 => AddressSet { v4: RangeSet::empty(), v6: numbers::<u128>(ranges, inverted)? },
    })
}

fn holds(ranges: &Ranges, key: &[u8]) -> bool {
    ranges.iter().any(|(first, last)| &first[..] <= key && key <= &last[..])
}

fn version(ranges: &Ranges, inverted: bool, keys: [Vec<u8>; 2]) -> Asked {
    if ranges.iter().any(|it| it.0.len() != keys[0].len()) {
        return Asked::Unknown("values of another length than theirs".into());
    }
    let [v4, v6] = keys.map(|key| holds(ranges, &key) != inverted);
    match (v4, v6) {
        (true, true) => Asked::All(Vec::new()),
        (true, false) => Asked::All(vec![Test::Family(Family::V4)]),
        (false, true) => Asked::All(vec![Test::Family(Family::V6)]),
        (false, false) => never(),
    }
}

fn picked(fits: impl Fn(u32) -> bool) -> Asked {
    let found: Vec<ConnectionState> =
        ConnectionState::ALL.into_iter().filter(|it| fits(state_bit(*it))).collect();
    Asked::All(vec![Test::State(StateSet::of(&found))])
}

/// A state is one bit; bits are compared with a number.
fn state(loaded: &Loaded, op: Compare, data: &[u8]) -> Option<Asked> {
    let number = |it: &[u8]| it.try_into().ok().map(u32::from_ne_bytes);
    let value = number(data)?;
    let mask = match &loaded.mask {
        Some(mask) => number(mask)?,
        None => u32::MAX,
    };
    match op {
        Compare::Equal => Some(picked(|bit| bit & mask == value)),
        Compare::NotEqual => Some(picked(|bit| bit & mask != value)),
        _ => None,
    }
}

fn states(ranges: &Ranges, inverted: bool) -> Asked {
    if ranges.iter().any(|(first, last)| first != last) {
        return Asked::Unknown("a range of connection states".into());
    }
    picked(|bit| holds(ranges, &bit.to_ne_bytes()) != inverted)
}

fn kind(end: End, ranges: &Ranges, inverted: bool) -> Asked {
    let local = fib::LOCAL.to_ne_bytes().to_vec();
    match &ranges[..] {
        [(first, last)] if *first == local && *last == local => {
            Asked::All(vec![Test::Own(end, !inverted)])
        }
        _ => Asked::Unknown("kinds of addresses besides the host's own".into()),
    }
}

fn interfaces(loaded: &Loaded, ranges: &Ranges, inverted: bool) -> Asked {
    let mut names = Vec::new();
    for (first, last) in ranges {
        let name = std::str::from_utf8(first).ok().map(|it| it.trim_end_matches('\0'));
        match name {
            // Fewer bytes than a whole name are the beginning of one.
            Some(name) if first == last && interface_key(name) == *first => names.push(name),
            _ => return Asked::Unknown("the beginning of an interface's name".into()),
        }
    }
    if loaded.mask.is_some() {
        return Asked::Unknown("the beginning of an interface's name".into());
    }
    let test = |it: InterfaceTest| match loaded.field {
        Field::InInterface => Test::InInterface(it),
        _ => Test::OutInterface(it),
    };
    if inverted {
        let not = names.into_iter().map(|it| test(InterfaceTest::IsNot(it.into())));
        return Asked::All(not.collect());
    }
    Asked::Any(names.into_iter().map(|it| test(InterfaceTest::Is(it.into()))).collect())
}
