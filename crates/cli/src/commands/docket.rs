//! `docket`: what was enforced.

use super::context::Context;
use super::output::Output;
use crate::render::{self, Format};
use clap::{Args, Subcommand};
use tipstaff_app::{Failure, compare, docket, undoing};

/// Options of `docket`.
#[derive(Debug, Args)]
pub struct Docket {
    #[command(subcommand)]
    pub part: Option<Part>,
}

/// What the docket can be asked.
#[derive(Debug, Subcommand)]
pub enum Part {
    /// Show one entry, with the policy as it was
    Show {
        /// Its number
        id: u64,
        /// Only the text of the policy, byte for byte; of several files the one named
        #[arg(long, value_name = "FILE", num_args = 0..=1)]
        text: Option<Option<String>>,
    },
    /// Write the policy of an entry back to the file; `undo` takes that back
    Restore {
        /// Its number
        id: u64,
        /// Show the effect and the lines that would change; write nothing
        #[arg(long)]
        dry_run: bool,
    },
    /// Keep what can be read of a damaged docket, and say what was lost
    Mend,
    /// Show which packets two entries treat differently, or an entry and the policy
    Compare {
        /// The one entry
        id: u64,
        /// The other one; the policy if left out
        other: Option<u64>,
    },
}

impl Docket {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let home = context.home;
        match &self.part {
            None => Ok(context.fine(&docket::list(home)?, render::docket)),
            Some(Part::Show { id, text: Some(file) }) if context.format() == Format::Text => {
                Ok(Output::fine(docket::text(home, *id, file.as_deref())?))
            }
            Some(Part::Restore { id, dry_run }) => {
                let path = &context.global.policy;
                let report = undoing::restore(home, path, context.host(), *id, *dry_run)?;
                Ok(context.shown(&report, report.outcome(), render::edited))
            }
            Some(Part::Show { id, .. }) => {
                Ok(context.fine(&docket::show(home, *id)?, render::docket_entry))
            }
            Some(Part::Mend) => {
                let report = docket::mend(context.machine, home)?;
                Ok(context.shown(&report, report.outcome(), render::mended))
            }
            Some(Part::Compare { id, other }) => {
                let first = docket::policy(home, *id)?;
                let second = match other {
                    Some(other) => docket::policy(home, *other)?,
                    None => context.policy()?,
                };
                let report = compare::between(&first, &second);
                Ok(context.shown(&report, report.outcome(), render::compare))
            }
        }
    }
}
