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
    /// Stay, and refresh whenever a file is replaced or a process takes over a socket
    #[arg(long, conflicts_with = "refresh")]
    pub watch: bool,
}

impl Programs {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        if self.watch {
            programs::watch(context.machine, context.home, |report| {
                render::print(&context.fine(report, render::programs).text)
            })?;
            return Ok(Output::silent());
        }
        let report = match self.refresh {
            true => programs::refresh(context.machine, context.home)?,
            false => programs::report(context.machine)?,
        };
        Ok(context.shown(&report, report.outcome(), render::programs))
    }
}
