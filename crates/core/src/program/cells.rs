//! Which items matter for which values of one field.

use std::collections::BTreeSet;

/// Neighbouring values for which the same items matter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Cell {
    /// The smallest value of the cell.
    pub first: u128,
    /// The largest value of the cell.
    pub last: u128,
    /// The items, by number, in order; none behind the first that takes everything.
    pub items: Vec<usize>,
}

/// A range of values at which an item matters.
pub(super) type Stretch = (usize, u128, u128);

/// Splits the values at every end of every range. `takes_all` says of an item whether it leaves
/// nothing to those behind it. Values at which nothing matters are left out. Gives `None` as soon
/// as more than `most` items would have to be listed in all.
pub(super) fn cells(
    ranges: &[Stretch],
    takes_all: impl Fn(usize) -> bool,
    most: usize,
) -> Option<Vec<Cell>> {
    // At each value: first what ended before it, then what begins there.
    let mut events: Vec<(u128, bool, usize)> = Vec::with_capacity(ranges.len() * 2);
    for &(item, first, last) in ranges {
        events.push((first, true, item));
        events.extend(last.checked_add(1).map(|behind| (behind, false, item)));
    }
    events.sort_unstable();
    let mut cells: Vec<Cell> = Vec::with_capacity(events.len());
    let mut active: BTreeSet<usize> = BTreeSet::new();
    let mut listed = 0;
    let mut events = events.into_iter().peekable();
    while let Some((at, begins, item)) = events.next() {
        if begins {
            active.insert(item);
        } else {
            active.remove(&item);
        }
        let next = events.peek().map(|event| event.0);
        if next == Some(at) || active.is_empty() {
            continue;
        }
        let mut items = Vec::new();
        for &item in &active {
            items.push(item);
            if takes_all(item) {
                break;
            }
        }
        let last = next.map_or(u128::MAX, |next| next - 1);
        match cells.last_mut() {
            Some(cell) if cell.last.checked_add(1) == Some(at) && cell.items == items => {
                cell.last = last;
            }
            _ => {
                listed += items.len();
                if listed > most {
                    return None;
                }
                cells.push(Cell { first: at, last, items });
            }
        }
    }
    Some(cells)
}

#[cfg(test)]
mod tests {
    use super::{Cell, cells};
    use proptest::prelude::{any, proptest};

    proptest! {
        #[test]
        fn each_value_lists_the_items_that_cover_it(
            ranges in proptest::collection::vec(any::<(u8, u8)>(), 0..8),
            final_item in 0..8usize,
        ) {
            let mut stretches: Vec<(usize, u128, u128)> = Vec::new();
            for (item, &(a, b)) in ranges.iter().enumerate() {
                stretches.push((item, a.min(b).into(), a.max(b).into()));
            }
            let found = cells(&stretches, |item| item == final_item, usize::MAX).expect("bounded");
            assert!(found.windows(2).all(|pair| pair[0].last < pair[1].first));
            for value in 0..=255u128 {
                let mut expected: Vec<usize> = Vec::new();
                for &(item, first, last) in &stretches {
                    let done = expected.last() == Some(&final_item);
                    if first <= value && value <= last && !done {
                        expected.push(item);
                    }
                }
                let cell = found.iter().find(|it| it.first <= value && value <= it.last);
                assert_eq!(cell.map(|it| it.items.clone()).unwrap_or_default(), expected);
            }
        }
    }

    #[test]
    fn the_last_value_has_nothing_behind_it() {
        let all = [(0, 0, u128::MAX), (1, 7, u128::MAX)];
        let found = cells(&all, |_| false, usize::MAX).expect("bounded");
        let last = Cell { first: 7, last: u128::MAX, items: vec![0, 1] };
        assert_eq!(found, [Cell { first: 0, last: 6, items: vec![0] }, last]);
        assert_eq!(cells(&all, |_| false, 2), None);
    }
}
