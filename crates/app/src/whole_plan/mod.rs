//! The whole plan of a host as plain data: what each decision takes, with what names stand for in place of the names.

mod model;
mod read;
mod taken;
mod written;

pub use model::{
    Asked, Chain, Condition, Decision, Document, FORM, Idle, Interface, Log, Record, Related,
    Reported, Traffic,
};
pub use taken::{Nobody, Taken, from_plan, is_plan};
pub use written::to_plan;
