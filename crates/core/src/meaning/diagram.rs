//! Decision diagrams over bits: exact functions from packets to small numbers.
//!
//! A diagram asks one bit of a packet after the other, always in the same order, and ends in a
//! number, its leaf. Equal diagrams are kept once, so two functions are equal exactly when their
//! references are; parts that functions have in common cost nothing twice. An address prefix or
//! port range takes about as many nodes as it has bits.
//!
//! # References
//! R. E. Bryant, "Graph-Based Algorithms for Boolean Function Manipulation", 1986; with more than
//! two leaves: R. I. Bahar et al., "Algebraic Decision Diagrams and their Applications", 1993.

use super::table::Table;
use std::collections::HashMap;

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

/// A node: which bit is asked, and where 0 and 1 lead.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
struct Node {
    bit: u16,
    low: Diagram,
    high: Diagram,
}

/// Remembered results of one operation.
pub(super) type Memo = Table<(Diagram, Diagram), Diagram>;

/// All diagrams that can be compared with one another.
#[derive(Clone, Debug)]
pub(super) struct Diagrams {
    nodes: Vec<Node>,
    known: Table<Node, Diagram>,
    /// With so many nodes nothing is combined any more.
    most: usize,
}

impl Default for Diagrams {
    fn default() -> Self {
        Self { nodes: Vec::new(), known: Table::default(), most: usize::MAX }
    }
}

/// A range of values, both ends included, and what it leads to.
pub(super) type Way = (u128, u128, Diagram);

impl Diagrams {
    /// Diagrams of at most about so many nodes in all.
    #[must_use]
    pub(super) fn within(most: usize) -> Self {
        Self { most, ..Self::default() }
    }

    /// Whether there were not enough nodes: then what was combined last is not what it should be.
    #[must_use]
    pub(super) fn is_exhausted(&self) -> bool {
        self.nodes.len() >= self.most
    }

    /// With how many nodes nothing is combined any more.
    #[must_use]
    pub(super) fn most(&self) -> usize {
        self.most
    }

    /// From here on there are not enough nodes.
    pub(super) fn exhaust(&mut self) {
        self.most = 0;
    }

    /// How many nodes there are.
    #[must_use]
    pub(super) fn len(&self) -> usize {
        self.nodes.len()
    }

    fn node(&self, diagram: Diagram) -> Option<Node> {
        // A leaf's number is beyond every node's.
        self.nodes.get(diagram.0 as usize).copied()
    }

    /// The bit that the diagram asks first; leaves come behind all bits.
    #[must_use]
    pub(crate) fn first_bit(&self, diagram: Diagram) -> u16 {
        self.node(diagram).map_or(u16::MAX, |node| node.bit)
    }

    /// The two halves of a diagram by a bit that nothing before it asks.
    #[must_use]
    pub(super) fn halves(&self, diagram: Diagram, bit: u16) -> (Diagram, Diagram) {
        match self.node(diagram) {
            Some(node) if node.bit == bit => (node.low, node.high),
            _ => (diagram, diagram),
        }
    }

    /// Where 0 and 1 lead from a node, by its place.
    #[must_use]
    pub(super) fn sides(&self, place: usize) -> (Diagram, Diagram) {
        (self.nodes[place].low, self.nodes[place].high)
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
        let low = self.taken_from(others, node.low, known, leaf);
        let high = self.taken_from(others, node.high, known, leaf);
        let done = self.ask(node.bit, low, high);
        known.insert(diagram, done);
        done
    }

    /// The diagram that asks `bit` and goes on with one of two, neither of which asks that bit or
    /// one before it.
    ///
    /// # Panics
    /// With more than 2³¹ nodes, which do not fit the memory of machines.
    pub(super) fn ask(&mut self, bit: u16, low: Diagram, high: Diagram) -> Diagram {
        debug_assert!(bit < self.first_bit(low) && bit < self.first_bit(high), "in order");
        if low == high {
            return low;
        }
        let node = Node { bit, low, high };
        let next = u32::try_from(self.nodes.len()).ok().filter(|it| it & LEAF == 0);
        *self.known.entry(node).or_insert_with(|| {
            self.nodes.push(node);
            Diagram(next.unwrap_or_else(|| unreachable!("the nodes would take 24 GB")))
        })
    }

    /// Combines two diagrams. `join` gives the result where it can be told from the two alone, as
    /// it always must for two leaves.
    pub(crate) fn combine(
        &mut self,
        a: Diagram,
        b: Diagram,
        memo: &mut Memo,
        join: &mut impl FnMut(Diagram, Diagram) -> Option<Diagram>,
    ) -> Diagram {
        if let Some(result) = join(a, b) {
            return result;
        }
        if let Some(&known) = memo.get(&(a, b)) {
            return known;
        }
        if self.is_exhausted() {
            return Diagram::leaf(0);
        }
        let bit = self.first_bit(a).min(self.first_bit(b));
        let ((a_low, a_high), (b_low, b_high)) = (self.halves(a, bit), self.halves(b, bit));
        let low = self.combine(a_low, b_low, memo, join);
        let high = self.combine(a_high, b_high, memo, join);
        let result = self.ask(bit, low, high);
        memo.insert((a, b), result);
        result
    }

    /// Leads each value of a field of `width` bits, the first of which is `bit`, its way; values
    /// in no way go `otherwise`. Ways are ascending and disjoint, and lead to diagrams that ask
    /// nothing before the end of the field.
    pub(super) fn fork(
        &mut self,
        bit: u16,
        width: u16,
        ways: &[Way],
        otherwise: Diagram,
    ) -> Diagram {
        self.fork_block(bit, width, 0, ways, otherwise)
    }

    fn fork_block(
        &mut self,
        bit: u16,
        width: u16,
        base: u128,
        ways: &[Way],
        otherwise: Diagram,
    ) -> Diagram {
        let last = base | low_bits(width);
        match ways {
            [] => return otherwise,
            [only] if only.0 <= base && last <= only.1 => return only.2,
            _ => {}
        }
        let half = width - 1;
        let middle = base | (1 << half);
        let low_end = ways.partition_point(|way| way.0 < middle);
        let high_start = ways.partition_point(|way| way.1 < middle);
        let low = self.fork_block(bit + 1, half, base, &ways[..low_end], otherwise);
        let high = self.fork_block(bit + 1, half, middle, &ways[high_start..], otherwise);
        self.ask(bit, low, high)
    }

    /// Follows the diagram with the bits that `value` gives, to its leaf.
    pub(super) fn follow(&self, diagram: Diagram, mut value: impl FnMut(u16) -> bool) -> u32 {
        let mut at = diagram;
        while let Some(node) = self.node(at) {
            at = if value(node.bit) { node.high } else { node.low };
        }
        at.0 & !LEAF
    }

    /// A way through the diagram to a leaf other than `nothing`, which keeps to the bits of
    /// `value` wherever it can: the bits that it had to choose, and the leaf.
    pub(super) fn find(
        &self,
        diagram: Diagram,
        nothing: Diagram,
        mut value: impl FnMut(u16) -> bool,
    ) -> Option<(HashMap<u16, bool>, u32)> {
        let mut at = diagram;
        let mut bits = HashMap::new();
        while let Some(node) = self.node(at) {
            let wanted = value(node.bit);
            let next = if wanted { node.high } else { node.low };
            // Where one side is nothing the other is not: a node's sides differ.
            let taken = if next == nothing { !wanted } else { wanted };
            bits.insert(node.bit, taken);
            at = if taken { node.high } else { node.low };
        }
        (at != nothing).then_some((bits, at.0 & !LEAF))
    }
}

/// The largest value of a field of that many bits.
pub(crate) fn low_bits(width: u16) -> u128 {
    1u128.checked_shl(width.into()).map_or(u128::MAX, |above| above - 1)
}

#[cfg(test)]
mod tests {
    use super::{Diagram, Diagrams, Memo};
    use proptest::prelude::{any, proptest};

    const NOTHING: Diagram = Diagram::leaf(0);

    /// Reads a field of eight bits.
    fn at(diagrams: &Diagrams, diagram: Diagram, value: u8) -> u32 {
        diagrams.follow(diagram, |bit| value >> (7 - bit) & 1 == 1)
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
                (diagrams.fork(0, 8, &ways, NOTHING), ways)
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
            // The same function is the same diagram, and what is not nothing can be found.
            let again = diagrams.combine(a, first, &mut Memo::default(), &mut |a, b| match a {
                NOTHING => Some(b),
                a => a.as_leaf().map(Diagram::leaf),
            });
            assert_eq!(again, first);
            let found = diagrams.find(first, NOTHING, |_| true);
            assert_eq!(found.is_none(), first == NOTHING);
        }
    }
}
