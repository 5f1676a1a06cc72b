//! The part of a rehearsal that runs inside the lab.

use super::output::Output;
use clap::Args;
use tipstaff_app::{Failure, rehearse};

/// Options of the part of a rehearsal that runs inside the lab.
#[derive(Debug, Args)]
pub struct LendHand {}

impl LendHand {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self) -> Result<Output, Failure> {
        rehearse::lend(std::io::stdin().lock(), &mut std::io::stdout().lock())?;
        Ok(Output::silent())
    }
}
