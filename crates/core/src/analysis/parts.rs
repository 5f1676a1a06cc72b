//! What is left of some packets while one line after the other takes its share.

use super::budget::{Budget, Spent};
use super::hull::Hull;
use crate::space::Piece;

/// Disjoint pieces with their hulls, so that lines that meet none of them pass quickly.
pub(super) struct Parts(Vec<(Hull, Box<Piece>)>);

impl Parts {
    /// The pieces, which are disjoint.
    pub(super) fn of(pieces: impl IntoIterator<Item = Piece>) -> Self {
        Self(pieces.into_iter().map(with_hull).collect())
    }

    /// Whether nothing is left.
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Takes away what is in a piece, whose hull is this one, and gives it.
    ///
    /// # Errors
    /// [`Spent`] if that takes too many steps.
    pub(super) fn take(
        &mut self,
        (piece, hull): (&Piece, &Hull),
        budget: &mut Budget,
    ) -> Result<Vec<Piece>, Spent> {
        // To look at hulls costs much less than to take apart what meets.
        budget.spend(1 + self.0.len() / 16)?;
        let meets = |part: &(Hull, Box<Piece>)| part.0.meets(hull);
        let Some(first) = self.0.iter().position(meets) else { return Ok(Vec::new()) };
        let mut taken = Vec::new();
        for part in self.0.split_off(first) {
            if !meets(&part) {
                self.0.push(part);
                continue;
            }
            budget.spend(part.1.weight())?;
            let (share, outside) = part.1.split(piece);
            taken.extend(share);
            self.0.extend(outside.into_iter().map(with_hull));
        }
        Ok(taken)
    }

    /// What is left.
    pub(super) fn rest(self) -> impl Iterator<Item = Piece> {
        self.0.into_iter().map(|it| *it.1)
    }
}

fn with_hull(piece: Piece) -> (Hull, Box<Piece>) {
    (Hull::of(&piece), Box::new(piece))
}
