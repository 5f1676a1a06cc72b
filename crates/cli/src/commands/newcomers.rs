//! `newcomers`: what began to listen where it did not before.

use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use tipstaff_app::{Failure, newcomers};

/// Options of `newcomers`.
#[derive(Debug, Args)]
pub struct Newcomers {
    /// From now on they are known: only what comes after them is new
    #[arg(long)]
    known: bool,
}

impl Newcomers {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let policy = context.here()?;
        let report = newcomers::report(context.machine, context.home, &policy, self.known)?;
        Ok(context.shown(&report, report.outcome(), render::newcomers))
    }
}
