//! A packet of a region that is as like another as can be.

use super::diagram::{Diagram, Diagrams, low_bits};
use super::fields::Values;

/// Sets the values of fields so that the diagram leads to a leaf other than `nothing`, each as like what it was as can be;
/// `false` if there is no such leaf.
pub(super) fn find(
    diagrams: &Diagrams,
    diagram: Diagram,
    nothing: Diagram,
    values: &mut Values,
) -> bool {
    let mut at = diagram;
    while at.node().is_some() {
        let bit = diagrams.first_bit(at);
        let last = low_bits(values.width(bit));
        let firsts: Vec<(u128, Diagram)> = diagrams.intervals(at, bit).collect();
        let ends = firsts.iter().skip(1).map(|it| it.0 - 1).chain([last]);
        let all = firsts.iter().zip(ends).filter(|it| it.0.1 != nothing);
        let some: Vec<(u128, u128)> = all.map(|((first, _), end)| (*first, end)).collect();
        let value = like(values.value(bit), &some, values.width(bit));
        values.set(bit, value);
        at = diagrams.at(at, bit, value);
    }
    at != nothing
}

/// A value in one of some ascending ranges that begins with as many of the bits of `wanted` as can be, and has its other
/// bits wherever it can.
pub(super) fn like(wanted: u128, ranges: &[(u128, u128)], width: u16) -> u128 {
    let mut value = 0;
    for place in (0..width).rev() {
        let half = 1 << place;
        let with = value | wanted & half;
        let first = ranges.partition_point(|it| it.1 < with);
        let can = ranges.get(first).is_some_and(|it| it.0 <= with | (half - 1));
        value = if can { with } else { with ^ half };
    }
    value
}

#[cfg(test)]
mod tests {
    use super::like;
    use proptest::prelude::{any, proptest};

    proptest! {
        #[test]
        fn the_value_differs_in_the_last_bits_only(
            ends in proptest::collection::btree_set(any::<u8>(), 2..9),
            wanted in any::<u8>(),
        ) {
            let ends: Vec<u128> = ends.iter().map(|&it| it.into()).collect();
            let ranges: Vec<(u128, u128)> =
                ends.chunks_exact(2).map(|pair| (pair[0], pair[1] - 1)).collect();
            let all = ranges.iter().flat_map(|it| it.0..=it.1);
            let best = all.min_by_key(|it| it ^ u128::from(wanted));
            assert_eq!(Some(like(wanted.into(), &ranges, 8)), best);
        }
    }
}
