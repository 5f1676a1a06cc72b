//! `review`: what is probably not meant.

use super::context::Context;
use super::in_posture::InPosture;
use super::output::Output;
use crate::render::{self, Format};
use clap::Args;
use tipstaff_app::{Failure, expected, review};

/// Options of `review`.
#[derive(Debug, Args)]
pub struct Review {
    /// Also look at what listens on this machine, and at the session you work in
    #[arg(long)]
    pub live: bool,
    /// Say what a kind of finding means
    #[arg(long, value_name = "CODE")]
    pub explain: Option<String>,
    #[command(flatten)]
    pub in_posture: InPosture,
}

impl Review {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        if let Some(code) = &self.explain {
            return Ok(context.fine(&review::explain(code)?, render::explanation));
        }
        let loaded = if self.live {
            context.here_in(&self.in_posture)?
        } else {
            context.policy_in(&self.in_posture)?
        };
        let busy = render::progress("reviewing");
        let report = review::report(context.machine, &loaded, self.live)?;
        drop(busy);
        let outcome = report.outcome();
        Ok(match context.format() {
            Format::Sarif => Output { text: render::sarif(&report), outcome },
            Format::Junit => {
                let text = render::junit(&expected::report(&loaded), &report, loaded.now);
                Output { text, outcome }
            }
            _ => context.shown(&report, outcome, render::review),
        })
    }
}
