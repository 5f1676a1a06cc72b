//! `posture`: what holds instead of the policy's rules for a while.

use super::context::Context;
use super::output::Output;
use super::shut::Shut;
use crate::render;
use clap::{Args, Subcommand};
use tipstaff_app::{Failure, posture};

/// Options of `posture`.
#[derive(Debug, Args)]
pub struct Posture {
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Say which is in force, since when, until when, and why
    Show,
    /// Take one
    #[command(subcommand)]
    Take(Take),
    /// Leave it: all is as it was
    Leave,
}

#[derive(Debug, Subcommand)]
enum Take {
    /// Nothing in or out but loopback, whatever the rules say; `tipstaff shut` for short
    Shut(Shut),
}

impl Posture {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let report = match &self.what {
            Some(What::Take(Take::Shut(shut))) => return shut.run(context),
            Some(What::Leave) => posture::leave(context.machine)?,
            Some(What::Show) | None => posture::look(context.machine)?,
        };
        Ok(context.shown(&report, report.outcome(), render::posture))
    }
}
