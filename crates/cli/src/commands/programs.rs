//! `programs`: those that rules in force name.

use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use tipstaff_app::{Failure, programs};

/// Options of `programs`.
#[derive(Debug, Args)]
pub struct Programs {
    /// Have the files recognised that the paths lead to now; the rules stay what they are
    #[arg(long)]
    pub refresh: bool,
}

impl Programs {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let report = match self.refresh {
            true => programs::refresh(context.machine, context.home)?,
            false => programs::report(context.machine)?,
        };
        Ok(context.shown(&report, report.outcome(), render::programs))
    }
}
