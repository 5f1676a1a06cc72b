//! Where two meanings differ.

use super::atlas::{Atlas, Meaning, Region};
use super::combine::{Both, Memo};
use super::diagram::Diagram;
use super::fate::{Fate, INSIDE, NOTHING};
use super::table::Table;
use crate::space::Direction;
use std::collections::{BTreeSet, HashMap, HashSet};

/// Packets that two meanings treat differently, all in the same way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    /// The packets that fare differently.
    pub region: Region,
    /// Which way those packets go.
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
        let mut seen: Table<(Diagram, Diagram), ()> = Table::default();
        let mut open = vec![(first, second)];
        while let Some((a, b)) = open.pop() {
            if a == b || seen.insert((a, b), ()).is_some() {
                continue;
            }
            if let (Some(a), Some(b)) = (a.as_leaf(), b.as_leaf()) {
                pairs.insert((a, b));
                continue;
            }
            let bit = self.diagrams.first_bit(a).min(self.diagrams.first_bit(b));
            let mut both = Both::of(&self.diagrams, a, b, bit);
            while let Some((_, a, b)) = both.next(&self.diagrams) {
                open.push((a, b));
            }
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
        let mut found = 0;
        self.differences_of(first, second, |_, _, _| {
            found += 1;
            found <= most
        })
    }

    /// Like [`Atlas::differences`], but only those between fates that are `wanted`: to work out which
    /// packets a difference concerns takes about as long as to find out all that there are.
    pub fn differences_of(
        &mut self,
        first: &Meaning,
        second: &Meaning,
        mut wanted: impl FnMut(Direction, &Fate, &Fate) -> bool,
    ) -> Vec<Difference> {
        let mut list = Vec::new();
        for direction in Direction::ALL {
            let (a, b) = (first.roots[direction as usize], second.roots[direction as usize]);
            let mut pairs = self.leaf_pairs(a, b);
            pairs.retain(|&(x, y)| {
                let (x, y) = (self.fates.fate(x), self.fates.fate(y));
                !x.fares_like(y) && wanted(direction, x, y)
            });
            let all = self.meet(a, b, &pairs);
            for ((x, y), number) in pairs.into_iter().zip(1..) {
                let (first, second) = (self.fates.fate(x).clone(), self.fates.fate(y).clone());
                let region = Region { direction, root: self.only(all, number) };
                list.push(Difference { region, direction, first, second });
            }
        }
        list
    }

    /// For packets that have one of the pairs of leaves the number of the pair, from 1 on.
    fn meet(&mut self, a: Diagram, b: Diagram, pairs: &BTreeSet<(u32, u32)>) -> Diagram {
        let numbers: HashMap<(u32, u32), u32> = pairs.iter().copied().zip(1..).collect();
        let firsts: HashSet<u32> = pairs.iter().map(|it| it.0).collect();
        let seconds: HashSet<u32> = pairs.iter().map(|it| it.1).collect();
        self.diagrams.combine(a, b, &mut Memo::default(), &mut |a, b| match (
            a.as_leaf(),
            b.as_leaf(),
        ) {
            _ if a == b => Some(NOTHING),
            (Some(a), Some(b)) => {
                Some(numbers.get(&(a, b)).map_or(NOTHING, |number| Diagram::leaf(*number)))
            }
            (Some(a), None) if !firsts.contains(&a) => Some(NOTHING),
            (None, Some(b)) if !seconds.contains(&b) => Some(NOTHING),
            _ => None,
        })
    }

    /// The packets with one leaf.
    fn only(&mut self, all: Diagram, leaf: u32) -> Diagram {
        self.diagrams.combine(all, NOTHING, &mut Memo::default(), &mut |it, _| {
            it.as_leaf().map(|it| if it == leaf { INSIDE } else { NOTHING })
        })
    }
}
