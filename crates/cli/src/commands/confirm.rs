//! `confirm`: what was enforced last stays.

use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use tipstaff_app::{Failure, transaction};

/// Options of `confirm`.
#[derive(Debug, Args)]
pub struct Confirm {
    /// Go on although a session could not be opened again
    #[arg(long)]
    pub even_if_locked_out: bool,
}

impl Confirm {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let report = transaction::confirm(context.machine, context.home, self.even_if_locked_out)?;
        Ok(context.fine(&report, render::settled))
    }
}
