//! The neutral form of what the kernel is told: chains of rules made of simple tests and lookups.
//!
//! [`lower`] turns a plan into it. A few rules are lowered one by one, in `clauses`. Many become
//! lookups, so that the cost of a packet hardly depends on how many there are: `arrange` cuts the
//! list into stretches whose order can be kept by lookups, `cells` works out which rules matter
//! for which values of a field.

mod arrange;
mod blocks;
mod cells;
mod clauses;
mod compare;
mod ending;
mod evaluate;
mod field;
mod item;
mod lookup_form;
mod lower;
mod lowering;
mod model;
mod points;
mod reached;
mod renamed;
mod room;
mod shared;
mod stretch;

pub use compare::{Drift, compare, compare_besides};
#[cfg(feature = "generate")]
pub use lower::lower_plainly;
pub use lower::{lower, lower_by};
pub use model::{
    Action, Admitting, BaseChain, Chain, Counted, End, Entry, Key, KeyValue, Lookup, ProgramRule,
    RuleProgram, Sender, Test, Then,
};
pub use reached::reached;
pub use renamed::renamed;
