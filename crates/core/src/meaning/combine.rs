//! Two diagrams side by side.

use super::diagram::{Diagram, Diagrams, Interval};
use super::table::Table;

/// Remembered results of one operation.
pub(super) type Memo = Table<(Diagram, Diagram), Diagram>;

impl Diagrams {
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
        let mut both = Both::of(self, a, b, bit);
        let mut made = Vec::with_capacity(both.most());
        while let Some((first, a, b)) = both.next(self) {
            made.push((first, self.combine(a, b, memo, join)));
        }
        let result = self.ask(bit, made);
        memo.insert((a, b), result);
        result
    }
}

/// The intervals of two diagrams in one field, cut where either begins another.
#[derive(Clone, Copy, Debug)]
pub(super) struct Both {
    sides: [Diagram; 2],
    counts: [usize; 2],
    at: [usize; 2],
    bit: u16,
    over: bool,
}

impl Both {
    pub(super) fn of(diagrams: &Diagrams, a: Diagram, b: Diagram, bit: u16) -> Self {
        let sides = [a, b];
        let counts = sides.map(|it| diagrams.count(it, bit));
        Self { sides, counts, at: [0, 0], bit, over: false }
    }

    /// No more than so many follow.
    pub(super) fn most(&self) -> usize {
        self.counts[0] + self.counts[1] - 1
    }

    /// The next one: its first value, and what follows on either side.
    pub(super) fn next(&mut self, diagrams: &Diagrams) -> Option<(u128, Diagram, Diagram)> {
        if self.over {
            return None;
        }
        let (a, b) = (self.here(diagrams, 0), self.here(diagrams, 1));
        self.go_on(self.behind(diagrams, 0), self.behind(diagrams, 1));
        Some((a.0.max(b.0), a.1, b.1))
    }

    /// The next one in which neither side is `nothing`. Where one is, the other is all there is, and is `made` already.
    pub(super) fn next_of_both(
        &mut self,
        diagrams: &Diagrams,
        nothing: Diagram,
        made: &mut Vec<Interval>,
    ) -> Option<(u128, Diagram, Diagram)> {
        while !self.over {
            let (a, b) = (self.here(diagrams, 0), self.here(diagrams, 1));
            if a.1 != nothing && b.1 != nothing {
                return self.next(diagrams);
            }
            let (empty, full) = if a.1 == nothing { (0, 1) } else { (1, 0) };
            made.push((a.0.max(b.0), if empty == 0 { b.1 } else { a.1 }));
            let end = self.behind(diagrams, empty);
            let rest = self.at[full] + 1..self.counts[full];
            let (firsts, thens) = diagrams.slices(self.sides[full], rest);
            let run = end.map_or(firsts.len(), |end| firsts.partition_point(|it| *it < end));
            made.extend(firsts[..run].iter().copied().zip(thens[..run].iter().copied()));
            self.at[full] += run;
            self.go_on_from(diagrams, empty, end, full);
        }
        None
    }

    fn go_on_from(&mut self, diagrams: &Diagrams, empty: usize, end: Option<u128>, full: usize) {
        match end {
            None => self.over = true,
            Some(end) => {
                self.at[empty] += 1;
                self.at[full] += usize::from(self.behind(diagrams, full) == Some(end));
            }
        }
    }

    fn here(&self, diagrams: &Diagrams, side: usize) -> Interval {
        diagrams.interval(self.sides[side], self.bit, self.at[side])
    }

    /// The first value of the interval behind the one of this side.
    fn behind(&self, diagrams: &Diagrams, side: usize) -> Option<u128> {
        let next = self.at[side] + 1;
        let is_there = next < self.counts[side];
        is_there.then(|| diagrams.interval(self.sides[side], self.bit, next).0)
    }

    fn go_on(&mut self, a: Option<u128>, b: Option<u128>) {
        match (a, b) {
            (None, None) => self.over = true,
            (Some(_), None) => self.at[0] += 1,
            (None, Some(_)) => self.at[1] += 1,
            (Some(x), Some(y)) => {
                self.at[0] += usize::from(x <= y);
                self.at[1] += usize::from(y <= x);
            }
        }
    }
}
