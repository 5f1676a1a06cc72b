//! The process that sees a posture out.

use super::context::Context;
use super::output::Output;
use clap::Args;
use tipstaff_app::{Failure, transaction};

/// Options of the process that sees a posture out.
#[derive(Debug, Args)]
pub struct SeeOut {}

impl SeeOut {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(context: &Context) -> Result<Output, Failure> {
        let (mut input, mut out) = (std::io::stdin(), std::io::stdout());
        transaction::see_out(context.machine, context.home, &mut input, &mut out)?;
        Ok(Output::silent())
    }
}
