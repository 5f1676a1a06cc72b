//! Who came: remembered by the kernel itself, without any process of ours.
//!
//! A packet's decision leads it on to a chain that remembers it and then does with it what was decided. Rules
//! that find their set full break off, so each way of remembering is a rule of its own, and what finds no room
//! falls through to the verdict: a full record changes none. Those who were not admitted share one chain for
//! each end that is remembered; which decision it was stands in the number that queues go by, since whatever is
//! turned away meets no queue. What is admitted goes on unchanged, so each decision has a chain of its own.

mod callers;
mod chains;
mod decisions;
mod duties;
mod form;
mod key;
mod known;
mod layout;
mod reports;
mod steps;

pub use callers::{Caller, Callers};
pub(super) use callers::{carry, entries, forget, numbers, read, remind};
pub(super) use chains::{Way, admitted, found_by, looked_up, numbers_of, turn_away};
pub use decisions::Began;
pub(crate) use decisions::Decided;
pub(super) use decisions::{Decisions, Refusal, begun, read as decisions};
pub(super) use duties::{Duties, Keeping};
pub use key::{Wanted, Who};
pub(super) use known::{Found, Known, Leads};
pub use layout::MOST;
pub(super) use layout::{CALLERS, CROWDED, DECISIONS, FIRST, PREFIX, Place, end, is_recorded};
pub(super) use reports::{counted, is_of_reports, sets as sets_of_reports};
