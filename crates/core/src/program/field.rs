//! What is left of items once packets were looked up by a field.

use super::blocks::{Bounds, Cut, cut};
use super::cells::{Stretch, cells};
use super::item::Item;
use super::model::{Key, Test};
use super::room;
use crate::plan::Condition;
use std::collections::HashSet;
use std::rc::Rc;

/// A field that items can be looked up by.
pub(super) struct Field<'f> {
    pub key: Key,
    /// The tests by which a packet has it.
    pub tests: &'f [Test],
    /// The sizes of blocks that it may be cut into, ascending, as powers of two.
    pub sizes: &'f [u32],
    /// How many blocks there may be for each range, on average.
    pub each: usize,
    /// The ranges of it that an item takes, each with the item's number.
    pub ranges: &'f dyn Fn(usize, &Item<'_>) -> Vec<Stretch>,
    /// A condition without its test.
    pub freed: &'f dyn Fn(&Condition) -> Condition,
    /// A condition of which the test is left to what a block leaves open, by the block's first and last value.
    pub within: &'f dyn Fn(&Condition, (u128, u128)) -> Condition,
}

/// A value, or a stretch of them, and what matters there: by number, with the condition that is left.
pub(super) struct Found {
    pub first: u128,
    pub last: u128,
    pub items: Vec<(usize, Rc<Condition>)>,
    /// Whether the same is left of the same items wherever they matter.
    pub alike: bool,
}

impl Field<'_> {
    fn all(&self, items: &[Item<'_>]) -> (Vec<Stretch>, Vec<Rc<Condition>>) {
        let ranges = items.iter().enumerate().flat_map(|(at, item)| (self.ranges)(at, item));
        let freed = items.iter().map(|item| Rc::new((self.freed)(&item.condition)));
        (ranges.collect(), freed.collect())
    }

    /// What is left of the items by blocks, and the items, fewer, that are too wide for them and go behind. `None` if
    /// blocks gain nothing, or would list more than `most` items.
    pub(super) fn blocks<'p>(
        &self,
        items: &[Item<'p>],
        most: usize,
    ) -> Option<(Vec<Found>, Vec<Item<'p>>)> {
        let (ranges, freed) = self.all(items);
        let bounds = Bounds { sizes: self.sizes, each: self.each, most };
        let Cut { blocks, wide } = cut(&ranges, bounds, |at| freed[at].is_any())?;
        if wide.len() == items.len() {
            return None;
        }
        let found = blocks.into_iter().map(|block| {
            let ends = (block.first, block.last);
            let left = |&(at, whole): &(usize, bool)| {
                let rest = || Rc::new((self.within)(&items[at].condition, ends));
                (at, if whole { Rc::clone(&freed[at]) } else { rest() })
            };
            let alike = block.items.iter().all(|it| it.1);
            let items = block.items.iter().map(left).collect();
            Found { first: block.first, last: block.last, items, alike }
        });
        Some((found.collect(), wide.iter().map(|&at| items[at].clone()).collect()))
    }

    /// What is left of the items by stretches of values of any length. `None` if that would list more than `most`.
    pub(super) fn stretches(&self, items: &[Item<'_>], most: usize) -> Option<Vec<Found>> {
        let (ranges, freed) = self.all(items);
        let found = cells(&ranges, |at| freed[at].is_any(), most)?.into_iter().map(|cell| {
            let items = cell.items.iter().map(|&at| (at, Rc::clone(&freed[at]))).collect();
            Found { first: cell.first, last: cell.last, items, alike: true }
        });
        Some(found.collect())
    }
}

impl Found {
    /// What leads to the same as others with these numbers; `None` if only this does.
    pub(super) fn numbers(&self) -> Option<Vec<usize>> {
        self.alike.then(|| self.items.iter().map(|it| it.0).collect())
    }
}

/// The bytes that a lookup takes if what it leads to is walked.
pub(super) fn weight(found: &[Found]) -> usize {
    let mut seen = HashSet::new();
    let walked = found.iter().filter(|it| it.numbers().is_none_or(|it| seen.insert(it)));
    let conditions = walked.flat_map(|it| &it.items).map(|it| room::weight(&it.1));
    found.len() * room::ENTRY + conditions.sum::<usize>()
}
