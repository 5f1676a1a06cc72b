//! A batch while it is being written.

use super::super::ledger::Ledger;
use super::super::marks::Marks;
use super::carried::Carried;
use super::record::Remembering;
use std::collections::HashMap;
use tipstaff_core::program::{Sender, Test};
use tipstaff_core::space::Family;
use tipstaff_wire::nf_tables::{Batch, Element, Expression, Set};

/// A set that may change, and what is in it.
pub(crate) type Changeable = (Set, Vec<Element>);

/// A batch while it is being written.
pub(super) struct Encoder<'a> {
    pub carried: Carried,
    pub batch: Batch,
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
    /// Where elements go of sets that may change, if not into the batch.
    pub apart: Option<Vec<Changeable>>,
    /// What is to be remembered of packets, if anything is.
    pub remembering: Option<Remembering>,
}
