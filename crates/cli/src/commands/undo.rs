//! `undo`: the last change of the policy taken back.

use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use tipstaff_app::{Failure, undoing};

/// Options of `undo`.
#[derive(Debug, Args)]
pub struct Undo {
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    pub dry_run: bool,
}

impl Undo {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let report = undoing::take_back(&context.global.policy, context.host(), self.dry_run)?;
        Ok(context.shown(&report, report.outcome(), render::edited))
    }
}
