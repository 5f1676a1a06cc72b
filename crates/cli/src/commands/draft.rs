//! `draft`: a first policy.

use super::context::Context;
use super::output::Output;
use clap::Args;
use tipstaff_app::{Failure, draft};

/// Options of `draft`.
#[derive(Debug, Args)]
pub struct Draft {
    /// Make each rule one for the program that listens now, and no other; not the remote shell's
    #[arg(long)]
    pub programs: bool,
}

impl Draft {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let report = draft::report(context.machine, context.host(), self.programs)?;
        Ok(context.fine(&report, |it, _| it.policy.clone()))
    }
}
