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
    /// Keep admitted whoever came as long as the kernel remembers it (`record = "all"`), not only who is connected
    #[arg(long)]
    pub from_record: bool,
}

impl Draft {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let wanted = draft::Wanted {
            host: context.host(),
            by_program: self.programs,
            from_record: self.from_record,
        };
        let report = draft::report(context.machine, &wanted)?;
        Ok(context.fine(&report, |it, _| it.policy.clone()))
    }
}
