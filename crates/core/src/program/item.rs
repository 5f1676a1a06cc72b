//! What is lowered, piece by piece.

use crate::plan::{Condition, Decision};
use crate::space::{AddressSet, Family, TrafficSet};
use std::rc::Rc;

/// Up to so many items are walked one by one: a lookup would not be cheaper.
pub(super) const FEW: usize = 8;

/// One condition of a decision.
#[derive(Clone, Debug)]
pub(super) struct Item<'p> {
    pub decision: &'p Decision,
    pub condition: Rc<Condition>,
}

impl Item<'_> {
    /// The item with a part of its traffic.
    pub(crate) fn carrying(&self, traffic: TrafficSet) -> Self {
        let condition = if traffic == self.condition.traffic {
            Rc::clone(&self.condition)
        } else {
            Rc::new(Condition { traffic, ..Condition::clone(&self.condition) })
        };
        Self { decision: self.decision, condition }
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
        (!condition.traffic.is_empty())
            .then(|| Self { decision: self.decision, condition: Rc::new(condition) })
    }
}
