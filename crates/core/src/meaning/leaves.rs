//! Lines of a list as the leaves of diagrams.

use super::diagram::Diagram;
use super::fate::{Fates, NOTHING};
use std::collections::HashMap;

/// A line that decides, by its place in the list, and the number of the fate that it gives.
pub(super) type Step = (u32, u32);

/// The lines that a packet meets, in order: all but the last let go on what is beyond a rate.
pub(super) type Steps = Vec<Step>;

/// What leaves stand for.
#[derive(Default)]
pub(super) struct Leaves {
    list: Vec<(Steps, bool)>,
    numbers: HashMap<Steps, u32>,
}

impl Leaves {
    /// The leaf of a line: its place in the list, and the number of the fate that it gives.
    pub(super) fn of(&mut self, place: u32, fate: u32, fates: &Fates) -> Diagram {
        self.steps(vec![(place, fate)], fates)
    }

    fn steps(&mut self, steps: Steps, fates: &Fates) -> Diagram {
        let next = u32::try_from(self.list.len() + 1).unwrap_or(u32::MAX);
        let number = *self.numbers.entry(steps).or_insert_with_key(|steps| {
            let open = steps.last().is_some_and(|it| fates.is_open(it.1));
            self.list.push((steps.clone(), open));
            next
        });
        Diagram::leaf(number)
    }

    /// The steps of a leaf other than nothing, and whether packets go on behind them.
    pub(super) fn get(&self, leaf: Diagram) -> Option<&(Steps, bool)> {
        self.list.get((leaf.as_leaf()? as usize).checked_sub(1)?)
    }

    /// The first line of a leaf, and the last, if packets do not go on behind it.
    pub(super) fn span(&self, leaf: Diagram) -> (u32, u32) {
        let Some((steps, open)) = self.get(leaf) else { return (u32::MAX, u32::MAX) };
        let last = if *open { u32::MAX } else { steps[steps.len() - 1].0 };
        (steps[0].0, last)
    }

    /// The leaf of packets that meet the lines of both.
    pub(super) fn join(&mut self, a: Diagram, b: Diagram, fates: &Fates) -> Diagram {
        let (Some(first), Some(second)) = (self.get(a), self.get(b)) else {
            return if a == NOTHING { b } else { a };
        };
        let mut all: Steps = first.0.iter().chain(&second.0).copied().collect();
        all.sort_unstable();
        all.dedup();
        let end = all.iter().position(|it| !fates.is_open(it.1));
        all.truncate(end.map_or(all.len(), |it| it + 1));
        self.steps(all, fates)
    }
}
