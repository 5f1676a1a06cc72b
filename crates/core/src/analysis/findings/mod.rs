//! Findings: what is probably not meant in a policy, each proven over all packets; and what does not go
//! together with the machine that it is for. One kind of finding, or a few that are found together, a file.

mod crowded;
mod expectations;
mod exposure;
mod facts;
mod finder;
mod finding;
mod interfaces;
mod leaks;
mod led_elsewhere;
mod marks;
mod names;
mod no_listener;
mod order;
mod order_kinds;
mod order_said;
mod other_program;
mod program_files;
mod programs;
mod proven;
mod published;
mod rule;
mod session;
mod shell;
mod subjects;
mod table;
mod timing;
mod unmentioned;
mod unused;
mod users;
mod versions;
mod wide;
mod wider_than_used;

pub use exposure::nearly_everybody;
pub use facts::{Contact, Facts, Listener, ProgramFile, Published, RoutingMark, Use};
pub use finder::{FindingKind, Scope};
pub use finding::{Finding, Mend, Subject};
pub use interfaces::odd_interface;
pub use shell::reachable;
pub use table::{
    explain, kinds, review, review_by, review_errors, review_expectations, review_machine,
};
