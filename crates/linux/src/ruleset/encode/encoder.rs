//! A batch while it is being written.

use super::super::ledger::Ledger;
use super::super::marks::Marks;
use super::carried::Carried;
use super::record::Remembering;
use super::sheet::Sheet;
use std::collections::{HashMap, HashSet};
use tipstaff_core::program::{Sender, Test};
use tipstaff_core::space::Family;
use tipstaff_wire::nf_tables::Expression;

/// A batch while it is being written.
pub(super) struct Encoder<'a> {
    pub carried: Carried,
    pub batch: Sheet,
    /// The chain that rules go into.
    pub chain: String,
    pub ledger: Ledger,
    /// How many sets have been made.
    pub sets: u32,
    /// Room for the expressions of one rule, used again for the next.
    pub expressions: Vec<Expression>,
    /// The last set of senders of each sort that are told apart, with its number.
    pub told_apart: HashMap<Sender, (String, u32)>,
    /// Sets that rules can share, with their names and numbers.
    pub known: HashMap<Test, (String, u32)>,
    /// The numbers of the sets with the networks that the machine is on.
    pub links: HashMap<Family, u32>,
    pub marks: &'a Marks,
    /// How many sets there are of each role.
    pub roles: HashMap<String, u32>,
    /// The names of sets that are called by what is in them.
    pub taken: HashSet<String>,
    /// What is to be remembered of packets, if anything is.
    pub remembering: Option<Remembering>,
}
