//! The lines that decide something, found out from the top.

use super::hull::Hull;
use super::index::Hulls;
use super::lines::Line;
use crate::space::Piece;

/// Lines in order, of which more and more become known.
pub(super) struct Deciding<'l, 'p> {
    lines: Vec<&'l Line<'p>>,
    /// The hulls of most of them, ...
    known: Hulls,
    /// ... and those of the others, which are looked at one by one.
    others: Vec<Hull>,
}

impl<'l, 'p> Deciding<'l, 'p> {
    /// None yet.
    pub(super) fn none() -> Self {
        Self { lines: Vec::new(), known: Hulls::of(std::iter::empty()), others: Vec::new() }
    }

    /// Adds lines that stand below all that there are.
    pub(super) fn add(&mut self, lines: &'l [Line<'p>]) {
        self.lines.extend(lines);
        self.others.extend(lines.iter().map(|line| *line.what().1));
        // Each is in so few indexes that to make them costs no more than a few questions.
        let known = self.lines.len() - self.others.len();
        if self.others.len() > 64 + known / 8 {
            self.known = Hulls::of(self.lines.iter().map(|line| line.what().1));
            self.others.clear();
        }
    }

    /// The lines that some packet of the piece may meet, in order.
    pub(super) fn meeting<'s>(
        &'s self,
        piece: &Piece,
    ) -> impl Iterator<Item = &'l Line<'p>> + use<'s, 'l, 'p> {
        let hull = Hull::of(piece);
        let others = self.lines[self.lines.len() - self.others.len()..].iter().zip(&self.others);
        let others = others.filter(move |it| it.1.meets(&hull)).map(|it| *it.0);
        self.known.meeting(&hull).map(|at| self.lines[at]).chain(others)
    }
}
