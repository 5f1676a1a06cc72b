//! What decisions have counted so far and are to go on from.

use super::super::record::{Callers, Decisions};
use super::super::tally::{Count, Tally};
use std::collections::HashMap;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::Counted;
use tipstaff_core::space::Direction;

/// What was known before the rules are replaced, and goes on.
#[derive(Clone, Copy, Default)]
pub(crate) struct Before<'b> {
    /// What decisions have counted.
    pub tallies: &'b [Tally],
    /// Who came.
    pub callers: Option<&'b Callers>,
    /// The numbers of decisions.
    pub known: Option<&'b Decisions>,
    /// What time it is, in seconds since the Unix epoch.
    pub now: u64,
}

/// What decisions have counted so far and are to go on from.
#[derive(Default)]
pub(super) struct Carried {
    of: HashMap<(Direction, RuleId), HashMap<Counted, Count>>,
}

impl Carried {
    pub(super) fn of(tallies: &[Tally]) -> Self {
        let counts = |it: &Tally| {
            let taken = (it.taken != Count::default()).then_some((Counted::Taken, it.taken));
            let excess = it.excess.map(|count| (Counted::Excess, count));
            let crowded = it.crowded.map(|count| (Counted::Crowded, count));
            taken.into_iter().chain(excess).chain(crowded).collect::<HashMap<_, _>>()
        };
        let all = tallies.iter().map(|it| ((it.direction, it.id.clone()), counts(it)));
        Self { of: all.filter(|it| !it.1.is_empty()).collect() }
    }

    /// What the first counter of a decision is to begin with. Nothing is given twice.
    pub(super) fn take(
        &mut self,
        direction: Direction,
        id: &RuleId,
        counted: Counted,
    ) -> Option<Count> {
        if self.of.is_empty() {
            return None;
        }
        self.of.get_mut(&(direction, id.clone()))?.remove(&counted)
    }
}
