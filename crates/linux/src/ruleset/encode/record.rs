//! What is known while it is being made of what is done about decisions besides deciding.

use super::super::record::{Decisions, Duties, Keeping, Place, Refusal};
use std::collections::HashSet;
use tipstaff_core::program::End;
use tipstaff_wire::nf_tables::Expression;

/// What is done about decisions, while it is being made.
pub(super) struct Remembering {
    pub duties: Duties,
    pub place: Place,
    pub numbers: Decisions,
    /// The chains of decisions that have been made.
    pub made: HashSet<String>,
    /// The ways to turn away that have been made.
    pub ways: HashSet<(End, Refusal)>,
    /// The rules of chains, which come once all decisions have their numbers: reports tell of which list these are.
    pub later: Vec<(String, Vec<Expression>)>,
}

impl Remembering {
    /// What is done, and in which sets.
    pub(super) fn keeping(&self) -> Keeping<'_> {
        Keeping { duties: &self.duties, place: self.place }
    }
}
