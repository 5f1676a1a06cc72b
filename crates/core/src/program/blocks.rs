//! Which items matter in which blocks: stretches of values of one size, which begin at its multiples. A hash of the
//! value's first bits finds a block, where a search among intervals of all sizes takes a packet several times as long.

use super::cells::{Stretch, cells};
use super::item::FEW;
use std::collections::BTreeSet;

/// A range that reaches into more blocks than this is looked up apart.
const SPREAD: u128 = 128;
/// Blocks in which the items that packets meet are more than this on average are cut too coarsely.
const CROWDED: usize = 6;
// What a block leaves is cut once more if it is not few: one block that holds all of it would never end.
const _: () = assert!(CROWDED < FEW);

/// A block in which some items matter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Block {
    /// Its smallest value.
    pub first: u128,
    /// Its largest value.
    pub last: u128,
    /// The items, by number, in order, and whether each takes all of the block's values; none behind the first that
    /// takes everything.
    pub items: Vec<(usize, bool)>,
}

/// Values cut into blocks.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Cut {
    /// The blocks, ascending.
    pub blocks: Vec<Block>,
    /// The items, in order, that reach further than the blocks do.
    pub wide: Vec<usize>,
}

/// What blocks may take.
#[derive(Clone, Copy)]
pub(super) struct Bounds<'b> {
    /// The sizes to choose from, ascending, as powers of two: the first that fits is taken.
    pub sizes: &'b [u32],
    /// How many blocks there may be for each range, on average.
    pub each: usize,
    /// How many items may be listed in all.
    pub most: usize,
}

/// Cuts values into blocks. `takes_all` says of an item whether it leaves nothing to those behind it, where it takes
/// all values. Gives `None` where that would take more than is allowed, or gain nothing.
pub(super) fn cut(
    ranges: &[Stretch],
    bounds: Bounds<'_>,
    takes_all: impl Fn(usize) -> bool,
) -> Option<Cut> {
    let size = bounds.sizes.iter().copied().find(|&size| fits(ranges, size, bounds.each))?;
    let (mut parts, mut wide_ranges, mut wide) = (Vec::new(), Vec::new(), BTreeSet::new());
    for &(item, first, last) in ranges {
        if is_wide(first, last, size) {
            wide_ranges.push((item, first, last));
            wide.insert(item);
        } else {
            parts.extend(((first >> size)..=(last >> size)).map(|block| {
                let (start, end) = ends(block, size);
                (block, item, first <= start && end <= last)
            }));
        }
    }
    parts.sort_unstable();
    let wide_cells = cells(&wide_ranges, |_| false, bounds.most)?;
    let (mut listed, mut met) = (0, 0);
    let mut blocks = Vec::new();
    for part in parts.chunk_by(|one, other| one.0 == other.0) {
        let (first, last) = ends(part.first()?.0, size);
        let mut items: Vec<(usize, bool)> = part.iter().map(|it| (it.1, it.2)).collect();
        let begin = wide_cells.partition_point(|cell| cell.last < first);
        for cell in wide_cells[begin..].iter().take_while(|cell| cell.first <= last) {
            let whole = cell.first <= first && last <= cell.last;
            items.extend(cell.items.iter().map(|&item| (item, whole)));
        }
        // Of two entries of an item, that which takes all comes first.
        items.sort_unstable_by_key(|it| (it.0, !it.1));
        items.dedup_by_key(|it| it.0);
        if let Some(at) = items.iter().position(|&(item, whole)| whole && takes_all(item)) {
            items.truncate(at + 1);
        }
        listed += items.len();
        met += items.len() * items.len();
        if listed > bounds.most {
            return None;
        }
        blocks.push(Block { first, last, items });
    }
    let useful = !blocks.is_empty() && met <= CROWDED * listed;
    useful.then(|| Cut { blocks, wide: wide.into_iter().collect() })
}

fn is_wide(first: u128, last: u128, size: u32) -> bool {
    (last >> size) - (first >> size) >= SPREAD
}

/// The first and the last value of a block.
fn ends(block: u128, size: u32) -> (u128, u128) {
    let first = block << size;
    (first, first | ((1 << size) - 1))
}

/// Whether blocks of this size are few enough, and hold most of the ranges.
fn fits(ranges: &[Stretch], size: u32, each: usize) -> bool {
    let (mut blocks, mut wide) = (0, 0);
    for &(_, first, last) in ranges {
        if is_wide(first, last, size) {
            wide += 1;
        } else {
            blocks += (last >> size) - (first >> size) + 1;
        }
    }
    wide * 4 <= ranges.len() && usize::try_from(blocks).is_ok_and(|it| it <= each * ranges.len())
}

#[cfg(test)]
mod tests {
    use super::{Block, Bounds, Cut, cut};
    use proptest::prelude::{any, prop_assert, prop_assert_eq, proptest};

    const BOUNDS: Bounds<'_> = Bounds { sizes: &[0, 2, 4], each: 4, most: usize::MAX };

    proptest! {
        #[test]
        fn each_value_finds_the_items_that_may_take_it(
            ranges in proptest::collection::vec(any::<(u8, u8)>(), 1..12),
            wide in proptest::collection::vec(any::<(u16, u16)>(), 0..3),
            last in 0..12usize,
        ) {
            let narrow = ranges.iter().map(|&(at, more)| (u128::from(at), u128::from(at) + u128::from(more % 9)));
            let wide = wide.iter().map(|&(a, b)| (u128::from(a.min(b)), u128::from(a.max(b))));
            let all: Vec<_> = narrow.chain(wide).enumerate().map(|(at, it)| (at, it.0, it.1)).collect();
            let Some(Cut { blocks, wide }) = cut(&all, BOUNDS, |item| item == last) else {
                return Ok(());
            };
            prop_assert!(blocks.windows(2).all(|it| it[0].last < it[1].first));
            let size = blocks[0].last - blocks[0].first;
            for block in &blocks {
                prop_assert_eq!(block.last - block.first, size);
                prop_assert_eq!(block.first & size, 0);
                for value in block.first..=block.last {
                    let covers = |it: &(usize, u128, u128)| it.1 <= value && value <= it.2;
                    let mut expected: Vec<usize> = all.iter().filter(|it| covers(it)).map(|it| it.0).collect();
                    if let Some(at) = expected.iter().position(|&it| it == last)
                        && block.items.contains(&(last, true))
                    {
                        expected.truncate(at + 1);
                    }
                    let found: Vec<usize> = block.items.iter().map(|it| it.0).collect();
                    prop_assert!(expected.iter().all(|it| found.contains(it)), "{value}: {found:?}");
                    // Whoever is said to take all of it does.
                    for (item, _) in block.items.iter().filter(|it| it.1) {
                        prop_assert!(expected.contains(item), "{value}: {item}");
                    }
                }
            }
            // What lies in no block is for wide items alone.
            for &(item, first, last) in all.iter().filter(|it| !wide.contains(&it.0)) {
                for value in first..=last {
                    let at = blocks.iter().find(|it| it.first <= value && value <= it.last);
                    prop_assert!(at.is_some_and(|it| it.items.iter().any(|it| it.0 <= item)));
                }
            }
        }
    }

    #[test]
    fn the_smallest_size_that_fits_is_taken() {
        let hosts: Vec<_> =
            (0..20).map(|it| (it, 256 * it as u128 + 7, 256 * it as u128 + 7)).collect();
        let found = cut(&hosts, BOUNDS, |_| false).expect("fits");
        assert_eq!(found.blocks.len(), 20);
        assert_eq!(found.blocks[1], Block { first: 263, last: 263, items: vec![(1, true)] });
        // Networks of sixteen, and a large one over all of them.
        let mut networks: Vec<_> =
            (0..20).map(|it| (it, 256 * it as u128, 256 * it as u128 + 15)).collect();
        networks.push((20, 0, 65_535));
        let found = cut(&networks, BOUNDS, |_| false).expect("fits");
        assert_eq!(found.wide, [20]);
        let first = Block { first: 0, last: 3, items: vec![(0, true), (20, true)] };
        assert_eq!((found.blocks.len(), &found.blocks[0]), (80, &first));
        // What takes everything hides what is behind it.
        let found = cut(&networks, BOUNDS, |_| true).expect("fits");
        assert_eq!(found.blocks[0].items, [(0, true)]);
        // Too many one over the other, and too large ones.
        let over: Vec<_> = (0..20).map(|it| (it, 0, 3)).collect();
        assert_eq!(cut(&over, BOUNDS, |_| false), None);
        let large: Vec<_> =
            (0..20).map(|it| (it, 4_096 * it as u128, 4_096 * it as u128 + 4_000)).collect();
        assert_eq!(cut(&large, BOUNDS, |_| false), None);
        assert_eq!(cut(&[], BOUNDS, |_| false), None);
    }
}
