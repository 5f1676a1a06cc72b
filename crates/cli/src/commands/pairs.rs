//! `fleet reach`, `matrix` and `expectations`: from host to host.

use super::complete::{hosts, places};
use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::Failure;
use tipstaff_app::fleet::{self, Side};

/// Options of `fleet reach`.
#[derive(Debug, Args)]
pub struct Reach {
    /// The host that sends
    #[arg(value_name = "FROM", add = Names::new(hosts))]
    from: String,
    /// The host that receives
    #[arg(value_name = "TO", add = Names::new(hosts))]
    to: String,
    /// The traffic, such as 5432/tcp, or a service's name
    #[arg(value_name = "TRAFFIC")]
    traffic: String,
    /// The hosts between them that pass it on, in order, whatever the policy's routes say
    #[arg(long, value_name = "HOST", num_args = 1.., add = Names::new(hosts))]
    through: Option<Vec<String>>,
    #[command(flatten)]
    within: Within,
}

/// Options of `fleet matrix`.
#[derive(Debug, Args)]
pub struct Matrix {
    /// The traffic, such as 5432/tcp, or a service's name
    #[arg(value_name = "TRAFFIC")]
    traffic: String,
    #[command(flatten)]
    within: Within,
}

/// Which of the hosts' addresses are meant.
#[derive(Debug, Args)]
struct Within {
    /// Only addresses of theirs in these places; all that they have if left out
    #[arg(long, value_name = "PLACE", num_args = 1.., add = Names::new(places))]
    within: Vec<String>,
}

/// Options of `fleet expectations`.
#[derive(Debug, Args)]
pub struct Expectations {
    /// Tell of every pair of hosts, however many there are
    #[arg(long)]
    all: bool,
}

fn side(context: &Context) -> Result<Side, Failure> {
    Side::named(&context.global.policy.display().to_string(), None)
}

impl Reach {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let ends = (self.from.as_str(), self.to.as_str());
        let report = fleet::reach(
            &side(context)?,
            ends,
            &self.traffic,
            &self.within.within,
            self.through.as_deref(),
        )?;
        Ok(context.shown(&report, report.outcome(), render::reached))
    }
}

impl Matrix {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let busy = render::progress("asking every host");
        let report = fleet::matrix(&side(context)?, &self.traffic, &self.within.within)?;
        drop(busy);
        Ok(context.fine(&report, render::matrix))
    }
}

impl Expectations {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let busy = render::progress("asking every host");
        let report = fleet::expectations(&side(context)?, self.all)?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::expected_between))
    }
}
