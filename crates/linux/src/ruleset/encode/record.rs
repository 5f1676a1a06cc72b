//! What is known of the record while it is being made.

use super::super::record::{Decisions, Place, Refusal};
use std::collections::HashSet;
use tipstaff_core::policy::Record;
use tipstaff_core::program::End;

/// The record while it is being made.
pub(super) struct Remembering {
    pub record: Record,
    pub place: Place,
    pub numbers: Decisions,
    /// The chains of decisions that have been made.
    pub made: HashSet<String>,
    /// The ways to turn away that have been made.
    pub ways: HashSet<(End, Refusal)>,
}
