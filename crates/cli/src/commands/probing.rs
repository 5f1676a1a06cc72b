//! `fleet probe`: hosts try each other.

use super::complete::{hosts, places};
use super::context::Context;
use super::membership::Carried;
use super::output::Output;
use super::span::span;
use crate::render;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use std::time::Duration;
use tipstaff_app::Failure;
use tipstaff_app::fleet::{self, Wish};

/// Options of `fleet probe`.
#[derive(Debug, Args)]
pub struct Probe {
    #[command(flatten)]
    carried: Carried,
    /// The ports to try, such as 5432/tcp, or a service's name
    #[arg(value_name = "TRAFFIC")]
    traffic: String,
    /// Who tries: hosts, or labels; all hosts if left out
    #[arg(long, value_name = "NAME", num_args = 1.., add = Names::new(hosts))]
    from: Vec<String>,
    /// Whom they try, likewise
    #[arg(long, value_name = "NAME", num_args = 1.., add = Names::new(hosts))]
    to: Vec<String>,
    /// Only addresses of theirs in these places; all that they have if left out
    #[arg(long, value_name = "PLACE", num_args = 1.., add = Names::new(places))]
    within: Vec<String>,
    /// How long to wait for what they say
    #[arg(long, value_name = "SPAN", value_parser = span, default_value = "30s")]
    patience: Duration,
}

impl Probe {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let wish = Wish {
            traffic: self.traffic.clone(),
            from: self.from.clone(),
            to: self.to.clone(),
            within: self.within.clone(),
            patience: self.patience,
        };
        let busy = render::progress("hosts try each other");
        let mut far =
            |told: usize, all: usize| busy.say(&format!("{told} of {all} hosts have answered"));
        let report = fleet::probe(&self.carried.trust()?, &wish, &mut far)?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::probed))
    }
}
