//! `release`: our rules out of the kernel.

use super::context::Context;
use super::output::Output;
use super::staying::Staying;
use crate::render;
use clap::Args;
use tipstaff_app::{Failure, transaction};

/// Options of `release`.
#[derive(Debug, Args)]
pub struct Release {
    #[command(flatten)]
    staying: Staying,
}

impl Release {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let report = transaction::release(&self.staying.options(context))?;
        Ok(context.fine(&report, render::enforced))
    }
}
