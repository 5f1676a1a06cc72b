//! `compare`: what differs between two policies.

use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use tipstaff_app::Failure;
use tipstaff_app::compare::{self, Operand, Place};

/// Options of `compare`.
#[derive(Debug, Args)]
pub struct Compare {
    /// A policy (PATH or PATH@HOST), another host of this one (@HOST), `kernel`, or `committed`
    #[arg(value_name = "FIRST", value_parser = Operand::parse)]
    pub first: Operand,
    /// Likewise; the policy itself if left out
    #[arg(value_name = "SECOND", value_parser = Operand::parse)]
    pub second: Option<Operand>,
    /// Tell every difference with the kernel, however many there are and however long that takes
    #[arg(long)]
    pub all: bool,
}

impl Compare {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let place = Place {
            machine: context.machine,
            policy: &context.global.policy,
            host: context.host(),
        };
        let busy = render::progress("comparing");
        let report = compare::report(&place, &self.first, self.second.as_ref(), self.all)?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::compare))
    }
}
