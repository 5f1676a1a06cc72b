//! A batch while it is being written.

use super::super::ledger::Ledger;
use super::super::marks::Marks;
use super::carried::Carried;
use std::collections::HashMap;
use tipstaff_core::program::Test;
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{Batch, Expression};

/// A batch while it is being written.
pub struct Encoder<'a> {
    pub carried: Carried,
    /// Whether the chain that is being written has a limiter.
    pub limiter: bool,
    /// The direction of the packets that come to it.
    pub direction: Option<Direction>,
    pub batch: Batch,
    pub ledger: Ledger,
    /// How many sets have been made.
    pub sets: u32,
    /// Room for the expressions of one rule, used again for the next.
    pub expressions: Vec<Expression>,
    /// The last set of senders that are told apart by so many bytes, with its number.
    pub told_apart: HashMap<u32, (String, u32)>,
    /// Sets that rules can share, with their names and numbers.
    pub known: HashMap<Test, (String, u32)>,
    pub marks: &'a Marks,
}
