//! Where meanings live that can be compared with one another.

use super::combine::Memo;
use super::diagram::{Diagram, Diagrams};
use super::fate::{Fate, Fates, INSIDE, NOTHING};
use super::fields::Vocabulary;
use super::firsts::Firsts;
use super::nearest::find;
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

    /// An atlas whose diagrams have at most about so many intervals in all.
    #[must_use]
    pub fn within(intervals: usize) -> Self {
        Self { diagrams: Diagrams::within(intervals), ..Self::new() }
    }

    /// Whether it had not enough of them: then nothing that it said counts.
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
        self.fates.fate(self.diagrams.follow(root, |bit| values.value(bit)))
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
            && Diagram::leaf(self.diagrams.follow(region.root, |bit| values.value(bit))) == INSIDE
    }

    /// A packet of the region, as like `wanted` as the region allows; `None` if it is empty.
    #[must_use]
    pub fn example(&self, region: &Region, wanted: &Packet) -> Option<Packet> {
        let mut values = self.words.values(wanted);
        find(&self.diagrams, region.root, NOTHING, &mut values)
            .then(|| self.words.packet(&values, region.direction))
    }

    /// How many nodes the diagrams of this atlas have, those of intermediate results included.
    #[must_use]
    pub fn nodes(&self) -> usize {
        self.diagrams.nodes()
    }

    /// How many intervals these have.
    #[must_use]
    pub fn intervals(&self) -> usize {
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

#[cfg(test)]
mod tests {
    use super::{Atlas, Fate, NOTHING};
    use crate::meaning::diagram::low_bits;
    use crate::meaning::fields::{FAMILY, PORT, STATE, destination, source};
    use crate::plan::RuleId;
    use crate::policy::{Rate, Verdict};
    use crate::space::Family;
    use proptest::prelude::{any, proptest};

    /// A line: states, senders, receivers and ports, each from one small number to another, and what it does.
    type Line = ([(u8, u8); 4], u8);

    const FIELDS: [crate::meaning::fields::Field; 4] =
        [STATE, source(Family::V4), destination(Family::V4), PORT];

    /// Small numbers as ends of ranges: the first and last of eight parts of a field.
    fn ends(field: usize, (first, last): (u8, u8)) -> (u128, u128) {
        let part = 1u128 << (FIELDS[field].width - 3);
        let (first, last) = (first.min(last) % 8, first.max(last) % 8);
        let (first, last) = (first.min(last), first.max(last));
        (u128::from(first) * part, u128::from(last) * part + part - 1)
    }

    fn fate(place: usize, act: u8) -> Fate {
        let by = RuleId::rule(&format!("line-{place}"));
        let rate = Rate { count: 1, seconds: 1, burst: 1, per_source: false };
        let denied = Fate::Decided { by: by.clone(), verdict: Verdict::Deny };
        match act % 4 {
            0 => Fate::Decided { by, verdict: Verdict::Allow },
            1 => denied,
            2 => Fate::Within { by, rate, beyond: Box::new(denied) },
            _ => Fate::Within { by, rate, beyond: Box::new(Fate::Undecided) },
        }
    }

    /// What becomes of a packet by the lines, one after the other.
    fn naive(lines: &[Line], packet: [u128; 4]) -> Fate {
        let meets = |line: &Line| {
            (0..4).all(|field| {
                let (first, last) = ends(field, line.0[field]);
                (first..=last).contains(&packet[field])
            })
        };
        let mut met = Vec::new();
        for (place, line) in lines.iter().enumerate().filter(|it| meets(it.1)) {
            met.push(fate(place, line.1));
            if line.1 % 4 != 3 {
                break;
            }
        }
        met.into_iter().rev().fold(Fate::Undecided, |then, first| match first {
            Fate::Within { by, rate, beyond } if *beyond == Fate::Undecided => {
                Fate::Within { by, rate, beyond: Box::new(then) }
            }
            first => first,
        })
    }

    proptest! {
        #[test]
        fn the_first_of_a_list_is_what_packets_meet_one_by_one(
            lines in proptest::collection::vec(any::<Line>(), 0..14),
        ) {
            let mut atlas = Atlas::new();
            let mut made = Vec::new();
            for (place, line) in lines.iter().enumerate() {
                let mut then = atlas.fates.leaf(fate(place, line.1));
                for field in (0..4).rev() {
                    let (first, last) = ends(field, line.0[field]);
                    then = FIELDS[field].fork(&mut atlas.diagrams, &[(first, last, then)], NOTHING);
                    if field == 1 {
                        then = FAMILY.either(&mut atlas.diagrams, then, NOTHING);
                    }
                }
                made.push(then);
            }
            let together = atlas.first_of(&made);
            for number in 0..8u32.pow(4) {
                let part = |field: usize| {
                    let value = u128::from(number >> (3 * field) & 7);
                    value << (FIELDS[field].width - 3)
                };
                let packet = [part(0), part(1), part(2), part(3)];
                let found = atlas.diagrams.follow(together, |bit| {
                    let of = |it: &crate::meaning::fields::Field| {
                        (it.bit..it.bit + it.width).contains(&bit)
                    };
                    let Some(at) = FIELDS.iter().position(of) else { return 0 };
                    let (place, width) = FIELDS[at].asked_with(bit);
                    packet[at] >> place & low_bits(width)
                });
                assert_eq!(*atlas.fates.fate(found), naive(&lines, packet), "{packet:?}\n{lines:?}");
            }
        }
    }
}
