//! Where meanings live that can be compared with one another.

use super::diagram::{Diagram, Diagrams, Memo};
use super::fate::{Fate, Fates, INSIDE, NOTHING};
use super::fields::Vocabulary;
use super::firsts::Firsts;
use crate::policy::Verdict;
use crate::space::{Direction, Packet};

/// What becomes of every packet: one diagram for each direction.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Meaning {
    pub(super) roots: [Diagram; 3],
}

/// A set of packets of one direction.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Region {
    pub(super) direction: Direction,
    pub(super) root: Diagram,
}

impl Region {
    /// Whether no packet is in it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.root == NOTHING
    }
}

/// Meanings and regions that can be compared with one another.
#[derive(Clone, Debug)]
pub struct Atlas {
    pub(super) diagrams: Diagrams,
    pub(super) fates: Fates,
    pub(super) words: Vocabulary,
}

impl Default for Atlas {
    fn default() -> Self {
        Self::new()
    }
}

impl Atlas {
    /// An atlas with nothing in it.
    #[must_use]
    pub fn new() -> Self {
        let mut words = Vocabulary::default();
        words.knows_loopback();
        Self { diagrams: Diagrams::default(), fates: Fates::default(), words }
    }

    /// An atlas whose diagrams have at most about so many nodes in all.
    #[must_use]
    pub fn within(nodes: usize) -> Self {
        Self { diagrams: Diagrams::within(nodes), ..Self::new() }
    }

    /// Whether it had not enough nodes: then nothing that it said counts.
    #[must_use]
    pub fn is_exhausted(&self) -> bool {
        self.diagrams.is_exhausted()
    }

    /// A meaning by which nothing decides about any packet.
    #[must_use]
    pub fn nothing(&self) -> Meaning {
        Meaning { roots: [NOTHING; 3] }
    }

    /// What becomes of the packet. An interface or program that no meaning of this atlas names is
    /// taken for one that nobody names.
    #[must_use]
    pub fn fate(&self, meaning: &Meaning, packet: &Packet) -> &Fate {
        let values = self.words.values(packet);
        let root = meaning.roots[packet.direction as usize];
        self.fates.fate(self.diagrams.follow(root, |bit| values.bit(bit)))
    }

    /// The packets of a direction that meet a verdict, those within a rate among the allowed.
    pub fn region(&mut self, meaning: &Meaning, direction: Direction, verdict: Verdict) -> Region {
        let root = meaning.roots[direction as usize];
        let fates = &self.fates;
        let root = self.diagrams.combine(root, NOTHING, &mut Memo::default(), &mut |a, _| {
            let fate = fates.fate(a.as_leaf()?);
            Some(if fate.verdict() == Some(verdict) { INSIDE } else { NOTHING })
        });
        Region { direction, root }
    }

    /// Whether the packet is in the region.
    #[must_use]
    pub fn holds(&self, region: &Region, packet: &Packet) -> bool {
        let values = self.words.values(packet);
        packet.direction == region.direction
            && Diagram::leaf(self.diagrams.follow(region.root, |bit| values.bit(bit))) == INSIDE
    }

    /// A packet of the region, as like `wanted` as the region allows; `None` if it is empty.
    #[must_use]
    pub fn example(&self, region: &Region, wanted: &Packet) -> Option<Packet> {
        let mut values = self.words.values(wanted);
        let (bits, _) = self.diagrams.find(region.root, NOTHING, |bit| values.bit(bit))?;
        for (bit, on) in bits {
            values.set(bit, on);
        }
        Some(self.words.packet(&values, region.direction))
    }

    /// How many nodes the diagrams of this atlas have, those of intermediate results included.
    #[must_use]
    pub fn nodes(&self) -> usize {
        self.diagrams.len()
    }

    /// What `first` decides, and for all else, what `second` does. Packets beyond a rate of the
    /// first go on to the second.
    pub(super) fn or_else(&mut self, first: Diagram, second: Diagram, memo: &mut Memo) -> Diagram {
        let fates = &mut self.fates;
        self.diagrams.combine(first, second, memo, &mut |a, b| match (a.as_leaf(), b.as_leaf()) {
            _ if a == NOTHING => Some(b),
            _ if b == NOTHING => Some(a),
            (Some(first), second) if fates.is_open(first) => {
                second.map(|second| fates.beyond(first, second))
            }
            (Some(_), _) => Some(a),
            (None, _) => None,
        })
    }

    /// The first of a list that decides.
    pub(super) fn first_of(&mut self, list: &[Diagram]) -> Diagram {
        match list {
            [] => NOTHING,
            [only] => *only,
            [first, second] => self.or_else(*first, *second, &mut Memo::default()),
            list => {
                let mut firsts = Firsts::within(self.diagrams.most());
                let lines: Vec<Diagram> = (0..)
                    .zip(list)
                    .filter(|it| *it.1 != NOTHING)
                    .map(|(place, it)| firsts.line(place, *it, &self.diagrams, &self.fates))
                    .collect();
                firsts.first(&lines, &mut self.diagrams, &mut self.fates)
            }
        }
    }

    /// What `then` says where `test` holds.
    pub(super) fn where_holds(&mut self, test: Diagram, then: Diagram) -> Diagram {
        self.diagrams.combine(test, then, &mut Memo::default(), &mut |test, then| {
            if test == NOTHING || then == NOTHING {
                Some(NOTHING)
            } else {
                (test == INSIDE).then_some(then)
            }
        })
    }
}
