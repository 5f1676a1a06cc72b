//! `rule tighten`: a rule for those who used it.

use super::common::Common;
use super::complete::rules;
use super::context::Context;
use super::output::Output;
use crate::render;
use clap::{Args, ValueEnum};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::edit::Request;
use tipstaff_app::{Failure, tighten};
use tipstaff_core::analysis::Narrowness;

/// Options of `rule tighten`.
#[derive(Debug, Args)]
pub struct Tighten {
    /// The rule
    #[arg(add = Names::new(rules))]
    name: String,
    /// What it is to name
    #[arg(long, value_name = "WHAT", default_value = "networks")]
    to: To,
    #[command(flatten)]
    common: Common,
}

/// What a narrower rule names.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum To {
    /// The smallest places that hold who used it, or else networks of 24 bits of IPv4, 64 of IPv6
    Networks,
    /// Only the addresses that used it
    Addresses,
}

impl Tighten {
    pub(super) fn run(&self, context: &Context) -> Result<Output, Failure> {
        let request = Request {
            path: &context.global.policy,
            host: context.host(),
            about_host: self.common.owner().is_none(),
            rule: Some(&self.name),
            done: format!("rule tightened: {}", self.name),
            file: None,
            dry: self.common.is_dry(),
        };
        let to = match self.to {
            To::Networks => Narrowness::Networks,
            To::Addresses => Narrowness::Addresses,
        };
        if self.common.posture().is_some() {
            return Err(Failure::usage(
                "what is remembered does not tell postures apart",
                "`tipstaff rule change` narrows a rule of a posture",
            ));
        }
        let owner = self.common.owner();
        let wanted = tighten::Wanted { rule: &self.name, to, owner, request };
        let busy = render::progress("looking who used it");
        let report = tighten::tighten(context.machine, &wanted)?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::tightened))
    }
}
