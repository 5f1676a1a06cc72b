//! The first of a long list that decides, for every packet.
//!
//! Joining a list two by two makes many diagrams that the result does not have. Here each leaf knows
//! the place of its line in the list, so that lines can be joined in whatever order costs least, and
//! all go down the bits of a field together: a line leaves the field where it asks nothing more of it,
//! and joins those that left it before. So a line costs what its own bits do, and not what all others
//! have beside it.

use super::diagram::{Diagram, Diagrams, Memo};
use super::fate::{Fates, NOTHING};
use super::fields::{DESTINATION, PORT, SOURCE};
use super::leaves::Leaves;
use super::table::Table;
use std::collections::HashMap;

/// Where lines leave a field, or two: behind these bits.
const ENDS: [u16; 3] = [SOURCE.end(), DESTINATION.end(), PORT.end()];

/// Lines of a list, and diagrams whose leaves they are.
pub(super) struct Firsts {
    /// Where the diagrams of lines are made, with leaves from [`Leaves::of`].
    pub diagrams: Diagrams,
    pub leaves: Leaves,
    /// For each node the first line that decides anything there, and the last, if all there is decided: what
    /// is not counts as decided behind all lines.
    spans: Vec<(u32, u32)>,
    joined: Memo,
    along: Table<(Vec<Diagram>, Diagram), Diagram>,
}

impl Firsts {
    /// For diagrams of at most about so many nodes.
    pub(super) fn within(most: usize) -> Self {
        Self {
            diagrams: Diagrams::within(most),
            leaves: Leaves::default(),
            spans: Vec::new(),
            joined: Memo::default(),
            along: Table::default(),
        }
    }

    /// Whether it has taken too many steps: then what was joined last is not what it should be. A node of the
    /// result takes about two of them, each of which may find what there is.
    fn is_exhausted(&self) -> bool {
        let steps = self.diagrams.len() + self.joined.len() + self.along.len();
        steps >= self.diagrams.most().saturating_mul(2)
    }

    /// A diagram of fates as that of a line.
    pub(super) fn line(
        &mut self,
        place: u32,
        diagram: Diagram,
        of: &Diagrams,
        fates: &Fates,
    ) -> Diagram {
        let leaves = &mut self.leaves;
        self.diagrams.taken_from(of, diagram, &mut Table::default(), &mut |fate| match fate {
            0 => NOTHING,
            fate => leaves.of(place, fate, fates),
        })
    }

    /// The diagram of fates that lines make together; each has the leaves of its place.
    pub(super) fn first(
        self,
        lines: &[Diagram],
        into: &mut Diagrams,
        fates: &mut Fates,
    ) -> Diagram {
        let mut making = Making {
            firsts: self,
            into,
            fates,
            done: Table::default(),
            early: HashMap::new(),
            by_source: Table::default(),
        };
        let found = making.early(lines);
        if making.firsts.is_exhausted() {
            making.into.exhaust();
        }
        found
    }

    /// The first line that decides anything in a diagram, and the last, if all there is decided.
    fn span(&mut self, diagram: Diagram) -> (u32, u32) {
        // What a node leads to was made before it.
        for at in self.spans.len()..self.diagrams.len() {
            let (low, high) = self.diagrams.sides(at);
            let (low, high) = (self.known_span(low), self.known_span(high));
            self.spans.push((low.0.min(high.0), low.1.max(high.1)));
        }
        self.known_span(diagram)
    }

    fn known_span(&self, diagram: Diagram) -> (u32, u32) {
        match diagram.node() {
            Some(at) => self.spans[at],
            None => self.leaves.span(diagram),
        }
    }

    /// Whether `first` decides everything before the other does anything.
    fn covers(&mut self, first: Diagram, other: Diagram) -> bool {
        self.span(first).1 < self.span(other).0
    }

    fn next_bit(&self, lines: &[Diagram]) -> Option<u16> {
        lines.iter().map(|it| self.diagrams.first_bit(*it)).min()
    }

    /// All lines together, from a field on.
    fn gather(&mut self, field: usize, lines: &[Diagram], fates: &Fates) -> Diagram {
        match (lines, ENDS.get(field)) {
            ([], _) => NOTHING,
            ([only], _) => *only,
            (lines, None) => {
                let (first, second) = lines.split_at(lines.len() / 2);
                let first = self.gather(field, first, fates);
                let second = self.gather(field, second, fates);
                self.join(first, second, fates)
            }
            (lines, Some(end)) => {
                let (inside, through): (Vec<Diagram>, Vec<Diagram>) =
                    lines.iter().partition(|it| self.diagrams.first_bit(**it) < *end);
                let through = self.gather(field + 1, &through, fates);
                self.along(field, inside, through, fates)
            }
        }
    }

    /// Lines that ask something of a field, together with what asks nothing of it.
    fn along(
        &mut self,
        field: usize,
        mut lines: Vec<Diagram>,
        with: Diagram,
        fates: &Fates,
    ) -> Diagram {
        lines.retain(|it| !self.covers(with, *it));
        let Some(bit) = self.next_bit(&lines) else { return with };
        if let [only] = lines[..] {
            return self.join(only, with, fates);
        }
        let key = (lines, with);
        if let Some(&known) = self.along.get(&key) {
            return known;
        }
        if self.is_exhausted() {
            return NOTHING;
        }
        let [low, high] = self.sides(field, &key.0, with, bit, fates);
        let low = self.along(field, low.0, low.1, fates);
        let high = self.along(field, high.0, high.1, fates);
        let done = self.diagrams.ask(bit, low, high);
        self.along.insert(key, done);
        done
    }

    /// Where a bit leads: lines that ask more of the field, and what asks nothing more of it.
    fn sides(
        &mut self,
        field: usize,
        lines: &[Diagram],
        with: Diagram,
        bit: u16,
        fates: &Fates,
    ) -> [(Vec<Diagram>, Diagram); 2] {
        let mut sides = [(Vec::new(), Vec::new()), (Vec::new(), Vec::new())];
        for line in lines {
            let (low, high) = self.diagrams.halves(*line, bit);
            for ((inside, through), half) in sides.iter_mut().zip([low, high]) {
                if half != NOTHING {
                    let asks = self.diagrams.first_bit(half) < ENDS[field];
                    if asks { inside.push(half) } else { through.push(half) }
                }
            }
        }
        sides.map(|(inside, through)| {
            let through = self.gather(field + 1, &through, fates);
            (inside, self.join(through, with, fates))
        })
    }

    fn join(&mut self, a: Diagram, b: Diagram, fates: &Fates) -> Diagram {
        if a == b || b == NOTHING {
            return a;
        }
        if a == NOTHING || self.covers(b, a) {
            return b;
        }
        if self.covers(a, b) {
            return a;
        }
        if a.as_leaf().is_some() && b.as_leaf().is_some() {
            return self.leaves.join(a, b, fates);
        }
        let key = (a.min(b), a.max(b));
        if let Some(&known) = self.joined.get(&key) {
            return known;
        }
        if self.is_exhausted() {
            return NOTHING;
        }
        let bit = self.diagrams.first_bit(a).min(self.diagrams.first_bit(b));
        let ((a_low, a_high), (b_low, b_high)) =
            (self.diagrams.halves(a, bit), self.diagrams.halves(b, bit));
        let low = self.join(a_low, b_low, fates);
        let high = self.join(a_high, b_high, fates);
        let done = self.diagrams.ask(bit, low, high);
        self.joined.insert(key, done);
        done
    }
}

/// The diagram of fates, while it is being made.
struct Making<'a> {
    firsts: Firsts,
    into: &'a mut Diagrams,
    fates: &'a mut Fates,
    /// What has been made of diagrams of lines.
    done: Table<Diagram, Diagram>,
    early: HashMap<(u16, Vec<Diagram>), Diagram>,
    by_source: Table<(Vec<Diagram>, Diagram), Diagram>,
}

impl Making<'_> {
    /// State and IP version: for each the lines that are about it, those about all others among them.
    fn early(&mut self, lines: &[Diagram]) -> Diagram {
        let Some(bit) = self.firsts.next_bit(lines).filter(|it| *it < SOURCE.bit) else {
            let firsts = &mut self.firsts;
            let (inside, through): (Vec<Diagram>, Vec<Diagram>) =
                lines.iter().partition(|it| firsts.diagrams.first_bit(**it) < ENDS[0]);
            let with = firsts.gather(1, &through, self.fates);
            return self.by_source(inside, with);
        };
        let key = (bit, lines.to_vec());
        if let Some(&known) = self.early.get(&key) {
            return known;
        }
        let [low, high] = self.split(lines, bit);
        let (low, high) = (self.early(&low), self.early(&high));
        let done = self.into.ask(bit, low, high);
        self.early.insert(key, done);
        done
    }

    /// The lines' halves that decide anything, up to one that decides all.
    fn split(&self, lines: &[Diagram], bit: u16) -> [Vec<Diagram>; 2] {
        let firsts = &self.firsts;
        let mut sides = [Vec::with_capacity(lines.len()), Vec::with_capacity(lines.len())];
        let mut over = [false; 2];
        for line in lines {
            let (low, high) = firsts.diagrams.halves(*line, bit);
            for (at, half) in [low, high].into_iter().enumerate() {
                if half != NOTHING && !over[at] {
                    over[at] = half.as_leaf().is_some() && firsts.leaves.span(half).1 < u32::MAX;
                    sides[at].push(half);
                }
            }
        }
        sides
    }

    /// As [`Firsts::along`], for the source: its diagrams are not made twice.
    fn by_source(&mut self, mut lines: Vec<Diagram>, with: Diagram) -> Diagram {
        lines.retain(|it| !self.firsts.covers(with, *it));
        let Some(bit) = self.firsts.next_bit(&lines) else { return self.of_fates(with) };
        if let ([only], NOTHING) = (&lines[..], with) {
            return self.of_fates(*only);
        }
        let key = (lines, with);
        if let Some(&known) = self.by_source.get(&key) {
            return known;
        }
        if self.into.is_exhausted() || self.firsts.is_exhausted() {
            return NOTHING;
        }
        let [low, high] = self.firsts.sides(0, &key.0, with, bit, self.fates);
        let low = self.by_source(low.0, low.1);
        let high = self.by_source(high.0, high.1);
        let done = self.into.ask(bit, low, high);
        self.by_source.insert(key, done);
        done
    }

    /// A diagram of lines as one of fates.
    fn of_fates(&mut self, diagram: Diagram) -> Diagram {
        let (leaves, fates) = (&self.firsts.leaves, &mut *self.fates);
        self.into.taken_from(&self.firsts.diagrams, diagram, &mut self.done, &mut |leaf| {
            let Some((steps, _)) = leaves.get(Diagram::leaf(leaf)) else { return NOTHING };
            let mut back = steps.iter().rev().map(|it| it.1);
            let last = back.next().map_or(NOTHING, Diagram::leaf);
            back.fold(last, |beyond, first| {
                fates.beyond(first, beyond.as_leaf().unwrap_or_default())
            })
        })
    }
}
