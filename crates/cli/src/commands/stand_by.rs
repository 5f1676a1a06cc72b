//! The process that watches over a change.

use super::context::Context;
use super::output::Output;
use clap::Args;
use tipstaff_app::{Failure, transaction};

/// Options of the process that watches over a change.
#[derive(Debug, Args)]
pub struct StandBy {
    /// The entry
    pub id: u64,
}

impl StandBy {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let (mut input, mut out) = (std::io::stdin(), std::io::stdout());
        transaction::stand_by(context.machine, context.home, self.id, &mut input, &mut out)?;
        Ok(Output::silent())
    }
}
