//! What is left of items once packets were looked up by a field.

use super::blocks::{Block, Bounds, Cut, cut};
use super::cells::{Stretch, cells};
use super::item::Item;
use super::model::{Key, Test};
use super::room;
use crate::fnv::Fnv;
use crate::plan::Condition;
use crate::space::TrafficSet;
use std::collections::HashSet;
use std::hash::BuildHasherDefault;
use std::sync::Arc;

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

/// A value, or a stretch of them, and what is left there of the items that matter.
pub(super) struct Found<'p> {
    pub first: u128,
    pub last: u128,
    pub items: Vec<Item<'p>>,
    /// The items' numbers, if the same is left of them wherever only they matter.
    pub numbers: Option<Vec<usize>>,
}

impl Field<'_> {
    fn all(&self, items: &[Item<'_>]) -> (Vec<Stretch>, Vec<Arc<Condition>>) {
        let ranges = items.iter().enumerate().flat_map(|(at, item)| (self.ranges)(at, item));
        let freed = items.iter().map(|item| Arc::new((self.freed)(&item.condition)));
        (ranges.collect(), freed.collect())
    }

    /// What is left of the items by blocks, at least one, and the items, fewer, that are too wide for them and go behind.
    /// `None` if blocks gain nothing, or would list more than `most` items.
    pub(super) fn blocks<'p>(
        &self,
        items: &[Item<'p>],
        most: usize,
    ) -> Option<(Vec<Found<'p>>, Vec<Item<'p>>)> {
        let (ranges, freed) = self.all(items);
        let bounds = Bounds { sizes: self.sizes, each: self.each, most };
        let Cut { blocks, wide } = cut(&ranges, bounds, |at| freed[at].is_any())?;
        if wide.len() == items.len() {
            return None;
        }
        let found = blocks.into_iter().filter_map(|block| {
            let ends = (block.first, block.last);
            let left = |&(at, whole): &(usize, bool)| {
                let rest = || Arc::new((self.within)(&items[at].condition, ends));
                items[at].with(if whole { Arc::clone(&freed[at]) } else { rest() })
            };
            let of_block = needed(&block.items, items, &wide);
            let alike = of_block.iter().all(|it| it.1);
            let numbers = alike.then(|| of_block.iter().map(|it| it.0).collect());
            let items: Vec<_> = of_block.iter().map(left).collect();
            let items = Item::with_those_ahead(items);
            let Block { first, last, .. } = block;
            (!items.is_empty()).then_some(Found { first, last, items, numbers })
        });
        let found: Vec<_> = found.collect();
        // Nothing is left where wide items take all that the others would.
        (!found.is_empty()).then(|| (found, wide.iter().map(|&at| items[at].clone()).collect()))
    }

    /// What is left of the items by stretches of values of any length. `None` if that would list more than `most`.
    pub(super) fn stretches<'p>(&self, items: &[Item<'p>], most: usize) -> Option<Vec<Found<'p>>> {
        let (ranges, freed) = self.all(items);
        let found = cells(&ranges, |at| freed[at].is_any(), most)?.into_iter().map(|cell| {
            let left = |&at: &usize| items[at].with(Arc::clone(&freed[at]));
            let items: Vec<_> = cell.items.iter().map(left).collect();
            let items = Item::with_those_ahead(items);
            Found { first: cell.first, last: cell.last, items, numbers: Some(cell.items) }
        });
        Some(found.collect())
    }
}

/// The items of a block that have to be asked there: of those that go behind as well only those that stand ahead of one
/// that has to be, or that this brings along, and may take some of its traffic.
fn needed(block: &[(usize, bool)], items: &[Item<'_>], behind: &[usize]) -> Vec<(usize, bool)> {
    let mut traffic = TrafficSet::empty();
    let mut list = Vec::with_capacity(block.len());
    for &(at, whole) in block.iter().rev() {
        let own = &items[at].condition.traffic;
        if behind.binary_search(&at).is_err() || own.meets(&traffic) {
            let ahead = items[at].those_ahead().iter().map(|it| &it.condition.traffic);
            traffic = ahead.fold(traffic.union(own), |all, it| all.union(it));
            list.push((at, whole));
        }
    }
    list.reverse();
    list
}

/// The bytes that a lookup takes if what it leads to is walked.
pub(super) fn weight(found: &[Found<'_>]) -> usize {
    let mut seen = HashSet::<_, BuildHasherDefault<Fnv>>::default();
    let mut told = HashSet::<_, BuildHasherDefault<Fnv>>::default();
    let walked = found.iter().filter(|it| it.numbers.as_ref().is_none_or(|it| seen.insert(it)));
    let conditions = walked.flat_map(|it| &it.items).map(|it| {
        // What takes much is told once, and led to.
        let known = room::is_heavy(&it.condition) && !told.insert(Arc::as_ptr(&it.condition));
        if known { room::RULE } else { room::weight(&it.condition) }
    });
    found.len() * room::ENTRY + conditions.sum::<usize>()
}
