//! `docket`: what was enforced.

use super::context::Context;
use super::output::Output;
use crate::render;
use clap::{Args, Subcommand};
use tipstaff_app::{Failure, compare, docket};

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
            Some(Part::Show { id }) => {
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
