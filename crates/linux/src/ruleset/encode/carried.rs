//! What decisions have counted so far and are to go on from.

use super::super::tally::{Count, Tally};
use std::collections::HashMap;
use tipstaff_core::plan::RuleId;
use tipstaff_core::space::Direction;

/// What decisions have counted so far and are to go on from.
#[derive(Default)]
pub struct Carried {
    taken: HashMap<(Direction, RuleId), Count>,
    excess: HashMap<(Direction, RuleId), Count>,
    crowded: HashMap<(Direction, RuleId), Count>,
}

impl Carried {
    pub fn of(tallies: &[Tally]) -> Self {
        let key = |it: &Tally| (it.direction, it.id.clone());
        let counts = |it: &Tally| it.taken != Count::default();
        Self {
            taken: tallies.iter().filter(|it| counts(it)).map(|it| (key(it), it.taken)).collect(),
            excess: tallies.iter().filter_map(|it| Some((key(it), it.excess?))).collect(),
            crowded: tallies.iter().filter_map(|it| Some((key(it), it.crowded?))).collect(),
        }
    }

    /// What the first counter of a decision is to begin with. Nothing is given twice.
    pub fn take(&mut self, direction: Option<Direction>, id: &RuleId, part: Part) -> Option<Count> {
        let from = match part {
            Part::Taken => &mut self.taken,
            Part::Excess => &mut self.excess,
            Part::Crowded => &mut self.crowded,
        };
        if from.is_empty() {
            return None;
        }
        from.remove(&(direction?, id.clone()))
    }
}

/// What a counter counts.
#[derive(Clone, Copy)]
pub enum Part {
    Taken,
    Excess,
    Crowded,
}
