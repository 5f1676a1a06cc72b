//! `compare`: what differs between two policies.

use super::complete::postures;
use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::Failure;
use tipstaff_app::compare::{self, Operand, Place};

/// Options of `compare`.
#[derive(Debug, Args)]
pub struct Compare {
    /// A policy (PATH or PATH@HOST), access control lists (PATH.json, PATH.xml), another host of this one (@HOST), `kernel`, the rules
    /// of `others` in it, or `committed`
    #[arg(value_name = "FIRST", value_parser = Operand::parse, required_unless_present = "postures")]
    pub first: Option<Operand>,
    /// Likewise; the policy itself if left out
    #[arg(value_name = "SECOND", value_parser = Operand::parse)]
    pub second: Option<Operand>,
    /// Postures of the host, or `none`. One: what it changes, or both sides in it. Two: the first side in the one,
    /// the second in the other
    #[arg(long = "posture", value_name = "POSTURE", add = Names::new(postures))]
    pub postures: Vec<String>,
    /// Tell every difference, however many there are and however long that takes
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
            home: context.home,
            policy: &context.global.policy,
            host: context.host(),
            postures: &self.postures,
        };
        if self.postures.len() > 2 {
            return Err(Failure::usage(
                "--posture was given more than twice",
                "two sides are compared",
            ));
        }
        let busy = render::progress("comparing");
        let report = compare::report(&place, self.first.as_ref(), self.second.as_ref(), self.all)?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::compare))
    }
}
