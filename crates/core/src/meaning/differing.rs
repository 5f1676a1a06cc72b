//! That two meanings differ, and for which packet.

use super::atlas::{Atlas, Meaning};
use super::combine::Both;
use super::diagram::{Diagram, low_bits};
use super::fate::Fate;
use super::nearest::like;
use super::table::Table;
use crate::space::{Direction, Family, Packet};
use std::collections::hash_map::Entry;
use std::net::{Ipv4Addr, Ipv6Addr};

/// The pair of nodes before, and the values of which field led on from there: the first of them, and the first behind.
type Way = ((Diagram, Diagram), u16, u128, Option<u128>);

/// How each pair of nodes was first come to.
type Ways = Table<(Diagram, Diagram), Option<Way>>;

/// The pairs of different fates that packets have by two meanings, each once for a direction.
#[derive(Debug)]
pub struct Differing<'a> {
    atlas: &'a Atlas,
    /// The direction, and the leaves.
    pairs: Vec<(Direction, (Diagram, Diagram))>,
    ways: [Ways; 3],
}

impl Atlas {
    /// Each pair of different fates that packets have by the two meanings. Unlike [`Atlas::differences`], it does not
    /// tell apart which packets those are, and so is done in one pass.
    #[must_use]
    pub fn differing(&self, first: &Meaning, second: &Meaning) -> Differing<'_> {
        let mut differing = Differing { atlas: self, pairs: Vec::new(), ways: Default::default() };
        for direction in Direction::ALL {
            let roots = (first.roots[direction as usize], second.roots[direction as usize]);
            differing.walk(direction, roots);
        }
        differing
    }
}

impl Differing<'_> {
    fn walk(&mut self, direction: Direction, roots: (Diagram, Diagram)) {
        let Atlas { diagrams, fates, .. } = self.atlas;
        let ways = &mut self.ways[direction as usize];
        ways.insert(roots, None);
        let mut open = vec![roots];
        while let Some((a, b)) = open.pop() {
            if let (Some(x), Some(y)) = (a.as_leaf(), b.as_leaf()) {
                if !fates.fate(x).fares_like(fates.fate(y)) {
                    self.pairs.push((direction, (a, b)));
                }
                continue;
            }
            let bit = diagrams.first_bit(a).min(diagrams.first_bit(b));
            let mut both = Both::of(diagrams, a, b, bit);
            let mut next = both.next(diagrams);
            while let Some((first, x, y)) = next {
                next = both.next(diagrams);
                if x != y
                    && let Entry::Vacant(vacant) = ways.entry((x, y))
                {
                    vacant.insert(Some(((a, b), bit, first, next.map(|it| it.0))));
                    open.push((x, y));
                }
            }
        }
    }

    /// The pairs, direction by direction.
    pub fn pairs(&self) -> impl Iterator<Item = (Direction, &Fate, &Fate)> {
        let fate = |it: Diagram| self.atlas.fates.fate(it.as_leaf().unwrap_or_default());
        self.pairs.iter().map(move |(direction, (a, b))| (*direction, fate(*a), fate(*b)))
    }

    /// A packet that has the fates of the pair at that place, somewhat like another one of its direction; `None` if
    /// there is no such pair.
    #[must_use]
    pub fn packet(&self, at: usize, likely: &Packet) -> Option<Packet> {
        let (direction, leaves) = *self.pairs.get(at)?;
        let packet = self.on_the_way(direction, leaves, likely);
        if packet.family() == likely.family() {
            return Some(packet);
        }
        // What the difference leaves open of its addresses is not taken from another version's.
        Some(self.on_the_way(direction, leaves, &of_the_other_version(likely)))
    }

    fn on_the_way(
        &self,
        direction: Direction,
        leaves: (Diagram, Diagram),
        likely: &Packet,
    ) -> Packet {
        let mut values = self.atlas.words.values(likely);
        let (mut at, mut steps) = (leaves, Vec::new());
        while let Some(Some((from, bit, first, behind))) = self.ways[direction as usize].get(&at) {
            steps.push((*bit, *first, *behind));
            at = *from;
        }
        for (bit, first, behind) in steps.into_iter().rev() {
            let width = values.width(bit);
            let range = (first, behind.map_or(low_bits(width), |it| it - 1));
            values.set(bit, like(values.value(bit), &[range], width));
        }
        self.atlas.words.packet(&values, direction)
    }
}

/// A packet with addresses of the other IP version, kept free for examples (RFC 3849, RFC 5737).
fn of_the_other_version(packet: &Packet) -> Packet {
    let [source, destination] = match packet.family() {
        Family::V4 => [
            Ipv6Addr::new(0x2001, 0xdb8, 0xbad, 0, 0, 0, 0, 9).into(),
            Ipv6Addr::new(0x2001, 0xdb8, 2, 0, 0, 0, 0, 0x10).into(),
        ],
        Family::V6 => [Ipv4Addr::new(203, 0, 113, 9).into(), Ipv4Addr::new(192, 0, 2, 10).into()],
    };
    Packet { source, destination, ..packet.clone() }
}
