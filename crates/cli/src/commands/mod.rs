//! The command line: one room for each command, with its options and what becomes of them. No clap
//! type leaves it.

mod ask;
mod compare;
mod complete;
mod confirm;
mod context;
mod cut;
mod defaults;
mod demo;
mod direction;
mod docket;
mod draft;
mod enforce;
mod examples;
mod facts;
mod global;
mod items;
mod lend_hand;
mod line;
mod looking;
mod meant;
mod named;
mod output;
mod place;
mod programs;
mod reach;
mod rehearse;
mod release;
mod report;
mod revert;
mod review;
mod rule;
mod rule_keys;
mod service;
mod show;
mod stand_by;
mod stand_in;
mod status;
mod staying;
mod undo;
mod values;
mod vantage;

pub use context::Typed;
pub use examples::examples;
pub use line::{Cli, command, run};
pub use output::Output;
