//! The first of a long list that decides, for every packet.
//!
//! Joining a list two by two makes many diagrams that the result does not have. Here each leaf knows the place of its
//! line in the list, so that lines can be joined in whatever order costs least. All lines that ask a field go along its
//! values together: where the values of one begin, it is joined with what encloses it, and where they end, what encloses
//! it goes on. So a line is joined about once, and not with all others.

use super::combine::{Both, Memo};
use super::diagram::{Diagram, Diagrams, Interval};
use super::fate::{Fates, NOTHING};
use super::fields::SOURCE;
use super::leaves::Leaves;
use super::table::Table;
use std::cmp::Reverse;
use std::collections::{BTreeSet, BinaryHeap};

/// So few lines are joined one by one.
const FEW: usize = 3;

/// Lines of a list, and diagrams whose leaves they are.
pub(super) struct Firsts {
    /// Where the diagrams of lines are made, with leaves from [`Leaves::of`].
    pub diagrams: Diagrams,
    pub leaves: Leaves,
    /// For each node the first line that decides anything there, and the last, if all there is decided: what
    /// is not counts as decided behind all lines.
    spans: Vec<(u32, u32)>,
    joined: Memo,
    gathered: Table<Vec<Diagram>, Diagram>,
}

impl Firsts {
    /// For diagrams of at most about so many intervals.
    pub(super) fn within(most: usize) -> Self {
        Self {
            diagrams: Diagrams::within(most),
            leaves: Leaves::default(),
            spans: Vec::new(),
            joined: Memo::default(),
            gathered: Table::default(),
        }
    }

    /// Whether it has taken too many steps: then what was joined last is not what it should be. The result takes about
    /// half of them.
    fn is_exhausted(&self) -> bool {
        let steps = self.diagrams.len() + self.joined.len();
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
        mut self,
        lines: &[Diagram],
        into: &mut Diagrams,
        fates: &mut Fates,
    ) -> Diagram {
        let found = self.gather(lines.to_vec(), fates);
        if self.is_exhausted() {
            into.exhaust();
            return NOTHING;
        }
        let leaves = &self.leaves;
        into.taken_from(&self.diagrams, found, &mut Table::default(), &mut |leaf| {
            let Some((steps, _)) = leaves.get(Diagram::leaf(leaf)) else { return NOTHING };
            let mut back = steps.iter().rev().map(|it| it.1);
            let last = back.next().map_or(NOTHING, Diagram::leaf);
            back.fold(last, |beyond, first| {
                fates.beyond(first, beyond.as_leaf().unwrap_or_default())
            })
        })
    }

    /// The first line that decides anything in a diagram, and the last, if all there is decided.
    fn span(&mut self, diagram: Diagram) -> (u32, u32) {
        // What a node leads to was made before it.
        for at in self.spans.len()..self.diagrams.nodes() {
            let all = self.diagrams.followers(at).iter().map(|it| self.known_span(*it));
            let span = all.fold((u32::MAX, 0), |all, it| (all.0.min(it.0), all.1.max(it.1)));
            self.spans.push(span);
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

    /// All lines together.
    fn gather(&mut self, lines: Vec<Diagram>, fates: &Fates) -> Diagram {
        let bit = lines.iter().map(|it| self.diagrams.first_bit(*it)).min();
        let Some(bit) = bit.filter(|it| *it < u16::MAX && lines.len() > FEW) else {
            return self.join_all(&lines, fates);
        };
        if let Some(&known) = self.gathered.get(&lines) {
            return known;
        }
        let done = if bit < SOURCE.bit {
            self.apart(bit, &lines, fates)
        } else {
            let (mut inside, through): (Vec<Diagram>, Vec<Diagram>) =
                lines.iter().partition(|it| self.diagrams.first_bit(**it) == bit);
            let with = self.gather(through, fates);
            inside.retain(|it| !self.covers(with, *it));
            self.along(bit, &inside, with, fates)
        };
        self.gathered.insert(lines, done);
        done
    }

    /// State and IP version: for each the lines that are about it, those about all others among them, up to one that
    /// decides all.
    fn apart(&mut self, bit: u16, lines: &[Diagram], fates: &Fates) -> Diagram {
        let mut firsts = BTreeSet::new();
        for line in lines {
            firsts.extend(self.diagrams.intervals(*line, bit).map(|it| it.0));
        }
        let mut made = Vec::with_capacity(firsts.len());
        for first in firsts {
            let mut thens = Vec::with_capacity(lines.len());
            for line in lines {
                let then = self.diagrams.at(*line, bit, first);
                if then != NOTHING {
                    thens.push(then);
                    if then.as_leaf().is_some() && self.leaves.span(then).1 < u32::MAX {
                        break;
                    }
                }
            }
            made.push((first, self.gather(thens, fates)));
        }
        self.diagrams.ask(bit, made)
    }

    fn join_all(&mut self, lines: &[Diagram], fates: &Fates) -> Diagram {
        match lines {
            [] => NOTHING,
            [only] => *only,
            lines => {
                let (first, second) = lines.split_at(lines.len() / 2);
                let first = self.join_all(first, fates);
                let second = self.join_all(second, fates);
                self.join(first, second, fates)
            }
        }
    }

    /// Lines that ask a field, together with what asks nothing of it.
    fn along(&mut self, bit: u16, lines: &[Diagram], with: Diagram, fates: &Fates) -> Diagram {
        // Where the values of lines begin, the widest first, and where they end.
        let mut ahead: BinaryHeap<Reverse<(u128, Reverse<u128>, Diagram)>> = BinaryHeap::new();
        for line in lines {
            let count = self.diagrams.count(*line, bit);
            for at in 0..count {
                let (first, then) = self.diagrams.interval(*line, bit, at);
                let behind = (at + 1 < count).then(|| self.diagrams.interval(*line, bit, at + 1));
                let last = behind.map_or(u128::MAX, |it| it.0 - 1);
                if then != NOTHING {
                    ahead.push(Reverse((first, Reverse(last), then)));
                }
            }
        }
        let mut made: Vec<Interval> = vec![(0, with)];
        // What encloses the values that come next, and where each ends.
        let mut around = vec![(u128::MAX, with)];
        while let Some(Reverse((first, Reverse(last), then))) = ahead.pop() {
            if self.is_exhausted() {
                return NOTHING;
            }
            let mut thens = vec![then];
            while let Some(Reverse((_, _, then))) =
                ahead.peek().filter(|it| (it.0.0, it.0.1.0) == (first, last))
            {
                thens.push(*then);
                ahead.pop();
            }
            leave(&mut around, &mut made, Some(first));
            let (end, outer) = around.last().copied().unwrap_or((u128::MAX, with));
            if last > end {
                // It ends behind what it begins in.
                ahead.extend(thens.iter().map(|it| Reverse((end + 1, Reverse(last), *it))));
            }
            let inner = self.gather(thens, fates);
            let inner = self.join(outer, inner, fates);
            around.push((last.min(end), inner));
            go_on(&mut made, first, inner);
        }
        leave(&mut around, &mut made, None);
        self.diagrams.ask(bit, made)
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
        let mut both = Both::of(&self.diagrams, a, b, bit);
        let mut made = Vec::with_capacity(both.most());
        while let Some((first, a, b)) = both.next_of_both(&self.diagrams, NOTHING, &mut made) {
            made.push((first, self.join(a, b, fates)));
        }
        let done = self.diagrams.ask(bit, made);
        self.joined.insert(key, done);
        done
    }
}

/// Leaves what ends before a value; all, if there is none.
fn leave(around: &mut Vec<(u128, Diagram)>, made: &mut Vec<Interval>, before: Option<u128>) {
    while let [.., (_, outer), (end, _)] = around[..] {
        if before.is_some_and(|it| it <= end) {
            return;
        }
        if let Some(behind) = end.checked_add(1) {
            go_on(made, behind, outer);
        }
        around.pop();
    }
}

/// From a value on it goes on like this.
fn go_on(made: &mut Vec<Interval>, first: u128, then: Diagram) {
    match made.last_mut() {
        Some(last) if last.0 == first => last.1 = then,
        _ => made.push((first, then)),
    }
}
