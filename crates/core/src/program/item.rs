//! What is lowered, piece by piece.

use crate::plan::{Condition, Decision};
use crate::space::{AddressSet, Family, TrafficSet};
use std::sync::Arc;

/// Up to so many items are walked one by one: a lookup would not be cheaper.
pub(super) const FEW: usize = 8;

/// One condition of a decision.
#[derive(Clone, Debug)]
pub(super) struct Item<'p> {
    pub decision: &'p Decision,
    pub condition: Arc<Condition>,
    /// Where it stands in the list that is being arranged.
    pub place: usize,
    /// Items that stand ahead of it, and may take what it would, but are looked up behind it; mostly there are none.
    pub ahead: Option<Arc<[Item<'p>]>>,
}

impl<'p> Item<'p> {
    /// One by itself.
    pub(crate) fn new(decision: &'p Decision, condition: Arc<Condition>) -> Self {
        Self { decision, condition, place: 0, ahead: None }
    }

    /// The item with another condition.
    pub(super) fn with(&self, condition: Arc<Condition>) -> Self {
        Self { decision: self.decision, condition, place: self.place, ahead: self.ahead.clone() }
    }

    /// Those that stand ahead of it.
    pub(super) fn those_ahead(&self) -> &[Self] {
        self.ahead.as_deref().unwrap_or_default()
    }

    /// The item with a part of its traffic.
    pub(crate) fn carrying(&self, traffic: TrafficSet) -> Self {
        if traffic == self.condition.traffic {
            return self.clone();
        }
        self.with(Arc::new(Condition { traffic, ..Condition::clone(&self.condition) }))
    }

    /// The items and those ahead of them, in order, as a list of its own.
    pub(super) fn with_those_ahead(mut items: Vec<Self>) -> Vec<Self> {
        let taken = items.iter_mut().filter_map(|it| it.ahead.take());
        let mut ahead: Vec<Self> = taken.flat_map(|it| it.to_vec()).collect();
        ahead.sort_by_key(|it| it.place);
        ahead.dedup_by_key(|it| it.place);
        ahead.iter_mut().for_each(|it| it.ahead = None);
        items.append(&mut ahead);
        items.sort_by_key(|it| it.place);
        items
    }

    /// The part that packets of one IP version can meet; what does not narrow them is full.
    pub(crate) fn of_family(&self, family: Family) -> Option<Self> {
        let mut condition = Condition::clone(&self.condition);
        for end in [&mut condition.source, &mut condition.destination] {
            if !end.has(family) {
                return None;
            }
            *end = if end.has_all(family) { AddressSet::full() } else { end.only(family) };
        }
        condition.traffic = condition.traffic.of_family(family);
        (!condition.traffic.is_empty()).then(|| Self::new(self.decision, Arc::new(condition)))
    }
}
