//! The neutral form of what the kernel is told: chains of rules made of simple tests.

mod compare;
mod evaluate;
mod lower;
mod model;

pub use compare::{Drift, compare};
pub use lower::lower;
pub use model::{Action, BaseChain, Chain, ProgramRule, RuleProgram, Test};
