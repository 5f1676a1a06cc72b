//! Decision diagrams over fields: exact functions from packets to small numbers.
//!
//! A diagram asks one field of a packet after the other, always in the same order, and ends in a number, its leaf. A
//! node has the values of its field as ascending intervals, each with what follows. Equal diagrams are kept once, so two
//! functions are equal exactly when their references are; parts that functions have in common cost nothing twice.
//!
//! Asking bits instead of fields takes as many nodes for an address or a port as it has bits. Of 10,000 grown rules that
//! were a hundred nodes for each rule, of which each had to be looked up among all others.
//!
//! # References
//! R. E. Bryant, "Graph-Based Algorithms for Boolean Function Manipulation", 1986; with intervals instead of bits:
//! K. Strehl and L. Thiele, "Symbolic Model Checking of Process Networks Using Interval Diagram Techniques", 1998;
//! for lists of rules: M. G. Gouda and A. X. Liu, "Structured firewall design", 2007.

use super::table::{Mixer, Table};
use std::hash::Hasher;
use std::ops::Range;

/// A diagram: a leaf, or the node with which it begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Diagram(u32);

const LEAF: u32 = 1 << 31;

impl Diagram {
    /// The function that gives the same number for every packet.
    #[must_use]
    pub(super) const fn leaf(number: u32) -> Self {
        Self(number | LEAF)
    }

    /// The number, if it is the same for every packet.
    #[must_use]
    pub(crate) fn as_leaf(self) -> Option<u32> {
        (self.0 & LEAF != 0).then_some(self.0 & !LEAF)
    }

    /// The place of its first node, if it has any.
    #[must_use]
    pub(super) fn node(self) -> Option<usize> {
        (self.0 & LEAF == 0).then_some(self.0 as usize)
    }
}

/// A node: which field is asked, by its first bit, and where its intervals stand.
#[derive(Clone, Copy, Debug)]
struct Node {
    bit: u16,
    start: u32,
    count: u32,
}

/// The first value of an interval, which ends where the next one begins, and what follows.
pub(super) type Interval = (u128, Diagram);

/// All diagrams that can be compared with one another.
#[derive(Clone, Debug)]
pub(super) struct Diagrams {
    nodes: Vec<Node>,
    /// The first values of all intervals, and what follows.
    firsts: Vec<u128>,
    thens: Vec<Diagram>,
    /// By what is in them, the last node that was made; and for each node the one before that has the same number.
    known: Table<u64, u32>,
    before: Vec<u32>,
    /// With so many intervals nothing is combined any more.
    most: usize,
}

impl Default for Diagrams {
    fn default() -> Self {
        Self::within(usize::MAX)
    }
}

/// A range of values, both ends included, and what it leads to.
pub(super) type Way = (u128, u128, Diagram);

/// No node.
const NONE: u32 = u32::MAX;

impl Diagrams {
    /// Diagrams of at most about so many intervals in all.
    #[must_use]
    pub(super) fn within(most: usize) -> Self {
        Self {
            nodes: Vec::new(),
            firsts: Vec::new(),
            thens: Vec::new(),
            known: Table::default(),
            before: Vec::new(),
            most,
        }
    }

    /// Whether there were not enough intervals: then what was combined last is not what it should be.
    #[must_use]
    pub(super) fn is_exhausted(&self) -> bool {
        self.thens.len() >= self.most
    }

    /// With how many intervals nothing is combined any more.
    #[must_use]
    pub(super) fn most(&self) -> usize {
        self.most
    }

    /// From here on there are not enough.
    pub(super) fn exhaust(&mut self) {
        self.most = 0;
    }

    /// How many nodes there are.
    #[must_use]
    pub(super) fn nodes(&self) -> usize {
        self.nodes.len()
    }

    /// How many intervals there are.
    #[must_use]
    pub(super) fn len(&self) -> usize {
        self.thens.len()
    }

    fn node(&self, diagram: Diagram) -> Option<Node> {
        // A leaf's number is beyond every node's.
        self.nodes.get(diagram.0 as usize).copied()
    }

    /// The first bit of the field that the diagram asks first; leaves come behind all fields.
    #[must_use]
    pub(crate) fn first_bit(&self, diagram: Diagram) -> u16 {
        self.node(diagram).map_or(u16::MAX, |node| node.bit)
    }

    /// How many intervals a diagram has in a field that nothing before it asks.
    pub(super) fn count(&self, diagram: Diagram, bit: u16) -> usize {
        self.node(diagram).filter(|it| it.bit == bit).map_or(1, |it| it.count as usize)
    }

    /// One of these intervals.
    pub(super) fn interval(&self, diagram: Diagram, bit: u16, at: usize) -> Interval {
        match self.node(diagram) {
            Some(node) if node.bit == bit => {
                let at = node.start as usize + at;
                (self.firsts[at], self.thens[at])
            }
            _ => (0, diagram),
        }
    }

    /// Some intervals of a node.
    pub(super) fn slices(&self, diagram: Diagram, some: Range<usize>) -> (&[u128], &[Diagram]) {
        let start = self.node(diagram).map_or(0, |it| it.start as usize);
        let range = if some.is_empty() { 0..0 } else { start + some.start..start + some.end };
        (&self.firsts[range.clone()], &self.thens[range])
    }

    /// All of them.
    pub(super) fn intervals(&self, diagram: Diagram, bit: u16) -> impl Iterator<Item = Interval> {
        (0..self.count(diagram, bit)).map(move |at| self.interval(diagram, bit, at))
    }

    /// What follows behind a node, by its place.
    pub(super) fn followers(&self, place: usize) -> &[Diagram] {
        let Node { start, count, .. } = self.nodes[place];
        &self.thens[start as usize..][..count as usize]
    }

    /// What follows for a value of a field that nothing before the diagram asks.
    #[must_use]
    pub(super) fn at(&self, diagram: Diagram, bit: u16, value: u128) -> Diagram {
        match self.node(diagram) {
            Some(node) if node.bit == bit => {
                let range = node.start as usize..(node.start + node.count) as usize;
                let behind = self.firsts[range.clone()].partition_point(|it| *it <= value);
                // The first interval begins with 0.
                self.thens[range.start + behind - 1]
            }
            _ => diagram,
        }
    }

    /// A diagram of others, with other leaves. What has been taken is known.
    pub(super) fn taken_from(
        &mut self,
        others: &Self,
        diagram: Diagram,
        known: &mut Table<Diagram, Diagram>,
        leaf: &mut impl FnMut(u32) -> Diagram,
    ) -> Diagram {
        let Some(node) = others.node(diagram) else { return leaf(diagram.0 & !LEAF) };
        if let Some(&done) = known.get(&diagram) {
            return done;
        }
        let mut made = Vec::with_capacity(node.count as usize);
        for (first, then) in others.intervals(diagram, node.bit) {
            made.push((first, self.taken_from(others, then, known, leaf)));
        }
        let done = self.ask(node.bit, made);
        known.insert(diagram, done);
        done
    }

    /// The diagram that asks the field that begins with `bit`, and goes on as its interval says. Intervals ascend from
    /// 0, and lead to diagrams that ask nothing before the end of the field.
    ///
    /// # Panics
    /// With more than 2³¹ nodes or intervals, which do not fit the memory of machines.
    pub(super) fn ask(&mut self, bit: u16, mut intervals: Vec<Interval>) -> Diagram {
        debug_assert!(intervals.first().is_some_and(|it| it.0 == 0), "from 0");
        debug_assert!(intervals.iter().all(|it| bit < self.first_bit(it.1)), "in order");
        intervals.dedup_by_key(|it| it.1);
        if let [only] = intervals[..] {
            return only.1;
        }
        let mut mixer = Mixer::default();
        mixer.write_u16(bit);
        for (first, then) in &intervals {
            mixer.write_u128(*first);
            mixer.write_u32(then.0);
        }
        let number = mixer.finish();
        let mut next = self.known.get(&number).copied().unwrap_or(NONE);
        while next != NONE {
            let known = Diagram(next);
            let same = |node: Node| {
                let range = node.start as usize..(node.start + node.count) as usize;
                node.bit == bit
                    && self.thens[range.clone()].iter().eq(intervals.iter().map(|it| &it.1))
                    && self.firsts[range].iter().eq(intervals.iter().map(|it| &it.0))
            };
            if self.node(known).is_some_and(same) {
                return known;
            }
            next = self.before[next as usize];
        }
        let fits = |it: usize| u32::try_from(it).ok().filter(|it| it & LEAF == 0);
        let place = fits(self.nodes.len()).unwrap_or_else(|| unreachable!("nodes of 24 GB"));
        let start = fits(self.thens.len()).unwrap_or_else(|| unreachable!("intervals of 40 GB"));
        let count = u32::try_from(intervals.len()).unwrap_or(u32::MAX);
        self.nodes.push(Node { bit, start, count });
        self.firsts.extend(intervals.iter().map(|it| it.0));
        self.thens.extend(intervals.iter().map(|it| it.1));
        self.before.push(self.known.insert(number, place).unwrap_or(NONE));
        Diagram(place)
    }

    /// Leads each value of the field that begins with `bit` its way; values in no way go `otherwise`. Ways are ascending
    /// and disjoint, and lead to diagrams that ask nothing before the end of the field, whose last value is `last`.
    pub(super) fn fork(
        &mut self,
        bit: u16,
        last: u128,
        ways: &[Way],
        otherwise: Diagram,
    ) -> Diagram {
        let mut intervals: Vec<Interval> = Vec::with_capacity(2 * ways.len() + 1);
        let mut next = Some(0);
        for &(from, to, then) in ways {
            if next.is_some_and(|it| it < from) {
                intervals.push((next.unwrap_or_default(), otherwise));
            }
            intervals.push((from, then));
            next = to.checked_add(1).filter(|it| *it <= last);
        }
        intervals.extend(next.map(|it| (it, otherwise)));
        self.ask(bit, intervals)
    }

    /// Follows the diagram with the values of fields that `value` gives, by their first bits, to its leaf.
    pub(super) fn follow(&self, diagram: Diagram, mut value: impl FnMut(u16) -> u128) -> u32 {
        let mut at = diagram;
        while let Some(node) = self.node(at) {
            at = self.at(at, node.bit, value(node.bit));
        }
        at.0 & !LEAF
    }
}

/// The largest value of a field of that many bits.
pub(crate) fn low_bits(width: u16) -> u128 {
    1u128.checked_shl(width.into()).map_or(u128::MAX, |above| above - 1)
}

#[cfg(test)]
mod tests {
    use super::super::combine::Memo;
    use super::{Diagram, Diagrams};
    use proptest::prelude::{any, proptest};

    const NOTHING: Diagram = Diagram::leaf(0);

    /// Reads a field of eight bits.
    fn at(diagrams: &Diagrams, diagram: Diagram, value: u8) -> u32 {
        diagrams.follow(diagram, |_| value.into())
    }

    proptest! {
        #[test]
        fn forks_and_combinations_agree_with_every_value(
            ends in proptest::collection::btree_set(any::<u8>(), 0..8),
            others in proptest::collection::btree_set(any::<u8>(), 0..8),
        ) {
            let mut diagrams = Diagrams::default();
            let mut make = |ends: &std::collections::BTreeSet<u8>, leaf: u32| {
                let ends: Vec<u128> = ends.iter().map(|&end| end.into()).collect();
                let ways: Vec<_> = ends
                    .chunks_exact(2)
                    .zip(leaf..)
                    .map(|(pair, leaf)| (pair[0], pair[1] - 1, Diagram::leaf(leaf)))
                    .filter(|way| way.0 <= way.1)
                    .collect();
                (diagrams.fork(0, 255, &ways, NOTHING), ways)
            };
            let (a, a_ways) = make(&ends, 1);
            let (b, b_ways) = make(&others, 100);
            let first = diagrams.combine(a, b, &mut Memo::default(), &mut |a, b| match a {
                NOTHING => Some(b),
                a => a.as_leaf().map(Diagram::leaf),
            });
            for value in 0..=255u8 {
                let of = |ways: &[super::Way]| {
                    let value = u128::from(value);
                    let way = ways.iter().find(|way| way.0 <= value && value <= way.1);
                    way.and_then(|way| way.2.as_leaf())
                };
                let expected = of(&a_ways).or(of(&b_ways)).unwrap_or(0);
                assert_eq!(at(&diagrams, first, value), expected);
            }
            // The same function is the same diagram.
            let again = diagrams.combine(a, first, &mut Memo::default(), &mut |a, b| match a {
                NOTHING => Some(b),
                a => a.as_leaf().map(Diagram::leaf),
            });
            assert_eq!(again, first);
            // As few intervals as there can be.
            let differ = |at: &u8| {
                let before = at.checked_sub(1).map(|it| self::at(&diagrams, first, it));
                before.is_some_and(|it| it != self::at(&diagrams, first, *at))
            };
            assert_eq!(diagrams.count(first, 0), 1 + (0..=255u8).filter(differ).count());
        }
    }
}
