//! `reach`: which listening ports can be reached.

use super::complete::places;
use super::context::Context;
use super::looking::Looking;
use super::output::Output;
use crate::render::{self, Format};
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::Failure;
use tipstaff_app::reach::{self, Request};

/// Options of `reach`.
#[derive(Debug, Args)]
pub struct Reach {
    /// Places or addresses to ask about; every place of the policy, and anywhere, if left out
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    pub from: Vec<String>,
    #[command(flatten)]
    pub looking: Looking,
}

impl Reach {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let request = Request {
            from: &self.from,
            vantages: &self.looking.vantages(),
            patience: self.looking.patience,
        };
        let loaded = context.here()?;
        let busy = render::progress("probing");
        let report = reach::report(context.machine, &loaded, &request)?;
        drop(busy);
        let outcome = report.outcome();
        Ok(match context.format() {
            Format::Openmetrics => Output { text: render::reach_metrics(&report), outcome },
            _ => context.shown(&report, outcome, render::reach),
        })
    }
}
