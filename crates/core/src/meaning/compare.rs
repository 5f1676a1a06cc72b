//! Where two meanings differ.

use super::atlas::{Atlas, Meaning, Region};
use super::diagram::{Diagram, Memo};
use super::fate::{Fate, INSIDE, NOTHING};
use crate::space::Direction;
use std::collections::{BTreeSet, HashSet};

/// Packets that two meanings treat differently, all in the same way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// The packets.
    pub region: Region,
    /// Their direction.
    pub direction: Direction,
    /// What becomes of them by the first meaning.
    pub first: Fate,
    /// What becomes of them by the second.
    pub second: Fate,
}

impl Atlas {
    /// The pairs of different fates that some packet has by the two meanings, direction by
    /// direction, in no particular order. Fates differ if the deciders do.
    #[must_use]
    pub fn fate_pairs(&self, first: &Meaning, second: &Meaning) -> Vec<(Direction, &Fate, &Fate)> {
        let mut pairs = Vec::new();
        for direction in Direction::ALL {
            let at = direction as usize;
            let numbers = self.leaf_pairs(first.roots[at], second.roots[at]);
            pairs.extend(
                numbers
                    .into_iter()
                    .map(|it| (direction, self.fates.fate(it.0), self.fates.fate(it.1))),
            );
        }
        pairs
    }

    fn leaf_pairs(&self, first: Diagram, second: Diagram) -> BTreeSet<(u32, u32)> {
        let mut pairs = BTreeSet::new();
        let mut seen = HashSet::new();
        let mut open = vec![(first, second)];
        while let Some((a, b)) = open.pop() {
            if a == b || !seen.insert((a, b)) {
                continue;
            }
            if let (Some(a), Some(b)) = (a.as_leaf(), b.as_leaf()) {
                pairs.insert((a, b));
                continue;
            }
            let bit = self.diagrams.first_bit(a).min(self.diagrams.first_bit(b));
            let ((a_low, a_high), (b_low, b_high)) =
                (self.diagrams.halves(a, bit), self.diagrams.halves(b, bit));
            open.extend([(a_low, b_low), (a_high, b_high)]);
        }
        pairs
    }

    /// Where packets fare differently by the two meanings, whoever decides, up to `most`
    /// differences. None are found exactly when all packets fare alike.
    pub fn differences(
        &mut self,
        first: &Meaning,
        second: &Meaning,
        most: usize,
    ) -> Vec<Difference> {
        let mut list = Vec::new();
        for direction in Direction::ALL {
            let (a, b) = (first.roots[direction as usize], second.roots[direction as usize]);
            for (x, y) in self.leaf_pairs(a, b) {
                let (fate_x, fate_y) = (self.fates.fate(x), self.fates.fate(y));
                if list.len() == most || fate_x.fares_like(fate_y) {
                    continue;
                }
                let (first, second) = (fate_x.clone(), fate_y.clone());
                let region = Region { direction, root: self.meet(a, b, (x, y)) };
                list.push(Difference { region, direction, first, second });
            }
        }
        list
    }

    /// The packets that have one leaf in one diagram and another in the other.
    fn meet(&mut self, a: Diagram, b: Diagram, leaves: (u32, u32)) -> Diagram {
        let wanted = (Some(leaves.0), Some(leaves.1));
        self.diagrams.combine(a, b, &mut Memo::default(), &mut |a, b| {
            let (x, y) = (a.as_leaf(), b.as_leaf());
            let hopeless = (x.is_some() && x != wanted.0) || (y.is_some() && y != wanted.1);
            if hopeless { Some(NOTHING) } else { ((x, y) == wanted).then_some(INSIDE) }
        })
    }
}
