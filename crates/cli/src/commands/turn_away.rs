//! `turn-away`: somebody meets silence, from now on or for a while.

use super::complete::places_and_services;
use super::context::Context;
use super::output::Output;
use super::span::lasting;
use super::staying::Staying;
use crate::render;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use std::time::Duration;
use tipstaff_app::Failure;
use tipstaff_app::transaction;
use tipstaff_app::turning::{self, Wish};

/// Options of `turn-away`.
#[derive(Debug, Args)]
pub struct TurnAway {
    /// An address, a network, or a place of the policy
    #[arg(value_name = "PLACE|ADDRESS", add = Names::new(places_and_services))]
    who: String,
    /// For how long, such as 2h; then it is over by itself
    #[arg(long = "for", value_name = "SPAN", value_parser = lasting)]
    time: Option<Duration>,
    /// Why, for whoever reads the policy
    #[arg(long, value_name = "TEXT", default_value = "")]
    why: String,
    /// Not any more
    #[arg(long, conflicts_with_all = ["time", "why"])]
    no_more: bool,
    /// Show the effect and the lines that would change; change nothing
    #[arg(long)]
    dry_run: bool,
    /// Go on although the session you work in could not be opened again
    #[arg(long)]
    even_if_locked_out: bool,
    #[command(flatten)]
    staying: Staying,
}

impl TurnAway {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let wish = Wish {
            who: self.who.clone(),
            time: self.time,
            why: self.why.clone(),
            no_more: self.no_more,
        };
        let how = transaction::Options {
            dry: self.dry_run,
            even_if_locked_out: self.even_if_locked_out,
            ..self.staying.options(context)
        };
        let busy = render::progress("turning away");
        let report = turning::turn(&context.global.policy, context.host(), &wish, &how)?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::turned))
    }
}
