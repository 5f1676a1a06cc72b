//! Senders that no rule tells apart.
//!
//! Rules compare addresses with sets. Two addresses that lie in the same of these sets fare alike
//! in every comparison, so one of them speaks for both: no sampling is involved.

use crate::space::{AddressSet, Point, RangeSet};
use std::collections::{BTreeMap, HashMap};

/// Cuts `universe` into the parts that `sets` do not cut any further, the one with the lowest
/// address first; each has addresses of one IP version.
#[must_use]
pub fn classes(sets: &[&AddressSet], universe: &AddressSet) -> Vec<AddressSet> {
    let v4 = cut(sets.iter().map(|set| &set.v4), &universe.v4);
    let v6 = cut(sets.iter().map(|set| &set.v6), &universe.v6);
    let v4 = v4.into_iter().map(AddressSet::from_v4);
    v4.chain(v6.into_iter().map(AddressSet::from_v6)).collect()
}

/// The addresses that a packet from outside can come from: IPv4 from 1.0.0.0 up to multicast,
/// without loopback (RFC 1122 section 3.2.1.3), and global and local IPv6 unicast (RFC 4291
/// section 2.4).
#[must_use]
pub fn sendable() -> AddressSet {
    let v4 = |first: [u8; 4], last: [u8; 4]| (u32::from_be_bytes(first), u32::from_be_bytes(last));
    let v4 = AddressSet::from_v4([
        v4([1, 0, 0, 0], [126, 255, 255, 255]),
        v4([128, 0, 0, 0], [223, 255, 255, 255]),
    ]);
    let v6 = AddressSet::from_v6([
        (0x2000 << 112, (0x4000 << 112) - 1),
        (0xfc00 << 112, (0xfec0 << 112) - 1),
    ]);
    v4.union(&v6)
}

/// A number for the sets that an address lies in: each set has bits of its own choice, and those
/// of all sets are combined. That two different choices give the same 128 bits does not happen.
fn mark(set: usize) -> u128 {
    let half = |salt: u64| {
        // SplitMix64 (Steele, Lea, Flood: Fast Splittable Pseudorandom Number Generators, 2014).
        let mut mixed = (set as u64).wrapping_mul(2).wrapping_add(salt);
        mixed = mixed.wrapping_mul(0x9e37_79b9_7f4a_7c15).wrapping_add(0x9e37_79b9_7f4a_7c15);
        mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    };
    (u128::from(half(0)) << 64) | u128::from(half(1))
}

fn cut<'a, T: Point + 'a>(
    sets: impl Iterator<Item = &'a RangeSet<T>>,
    universe: &RangeSet<T>,
) -> Vec<Vec<(T, T)>> {
    // Where the combination of sets changes, and how.
    let mut changes: BTreeMap<T, u128> = BTreeMap::new();
    for (number, set) in sets.enumerate() {
        let mark = mark(number);
        for &(first, last) in set.ranges() {
            *changes.entry(first).or_default() ^= mark;
            if let Some(behind) = last.next() {
                *changes.entry(behind).or_default() ^= mark;
            }
        }
    }
    let mut parts: Vec<Vec<(T, T)>> = Vec::new();
    let mut numbers: HashMap<u128, usize> = HashMap::new();
    let mut changes = changes.into_iter().peekable();
    let mut combination = 0;
    for &(mut first, last) in universe.ranges() {
        loop {
            while let Some((_, change)) = changes.next_if(|it| it.0 <= first) {
                combination ^= change;
            }
            let next = changes.peek().map(|it| it.0).filter(|&it| it <= last);
            let end = next.and_then(T::previous).unwrap_or(last);
            let part = *numbers.entry(combination).or_insert_with(|| {
                parts.push(Vec::new());
                parts.len() - 1
            });
            parts[part].push((first, end));
            match next {
                Some(next) => first = next,
                None => break,
            }
        }
    }
    parts
}
