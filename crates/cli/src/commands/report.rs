//! `report`: a page to hand over.

use super::context::Context;
use super::in_posture::InPosture;
use super::looking::Looking;
use super::output::Output;
use crate::render::{self, Format};
use clap::Args;
use tipstaff_app::{Failure, report};

/// Options of `report`.
#[derive(Debug, Args)]
pub struct Report {
    /// The host is this machine: also look at what listens on it, and try it
    #[arg(long)]
    pub live: bool,
    #[command(flatten)]
    pub looking: Looking,
    #[command(flatten)]
    pub in_posture: InPosture,
}

impl Report {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let request = report::Request {
            live: self.live,
            vantages: &self.looking.vantages(),
            patience: self.looking.patience,
        };
        if !request.live && !request.vantages.is_empty() {
            return Err(Failure::usage(
                "a vantage looks at this machine",
                "add --live if the host of the report is this machine",
            ));
        }
        let loaded = if self.live {
            context.here_in(&self.in_posture)?
        } else {
            context.policy_in(&self.in_posture)?
        };
        let bar = render::Bar::new();
        let found =
            report::report(context.machine, &loaded, &request, &|tried, all| bar.show(tried, all))?;
        drop(bar);
        let outcome = found.outcome();
        Ok(match context.format() {
            Format::Html => Output { text: render::page(&found), outcome },
            Format::Csv => Output { text: render::csv(&found), outcome },
            Format::Markdown => Output { text: render::markdown(&found), outcome },
            _ => context.shown(&found, outcome, render::reported),
        })
    }
}
