//! `cut`: connections that the policy would not admit any more.

use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use tipstaff_app::{Failure, cut};

/// Options of `cut`.
#[derive(Debug, Args)]
pub struct Cut {
    /// Only list them
    #[arg(long)]
    pub dry_run: bool,
}

impl Cut {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let end = if self.dry_run { cut::End::None } else { cut::End::All };
        let report = cut::report(context.machine, end)?;
        Ok(context.shown(&report, report.outcome(), render::cut))
    }
}
