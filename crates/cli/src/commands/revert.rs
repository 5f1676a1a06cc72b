//! `revert`: back to what was confirmed before.

use super::context::Context;
use super::output::Output;
use super::staying::Staying;
use crate::render;
use clap::Args;
use tipstaff_app::{Failure, transaction};

/// Options of `revert`.
#[derive(Debug, Args)]
pub struct Revert {
    /// The entry of the docket; what was confirmed before the last if left out
    pub id: Option<u64>,
    #[command(flatten)]
    pub staying: Staying,
    /// Go on although the session you work in could not be opened again
    #[arg(long)]
    pub even_if_locked_out: bool,
}

impl Revert {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        if self.id.is_none()
            && let Some(report) = transaction::revert_pending(context.machine, context.home)?
        {
            return Ok(context.fine(&report, render::settled));
        }
        let how = transaction::Options {
            even_if_locked_out: self.even_if_locked_out,
            ..self.staying.options(context)
        };
        Ok(context.fine(&transaction::revert(self.id, &how)?, render::enforced))
    }
}
