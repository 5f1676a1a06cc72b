//! `fleet reach` and `matrix`: from host to host.

use super::complete::hosts;
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
    /// The hosts between them that pass it on, in order
    #[arg(long, value_name = "HOST", num_args = 1.., add = Names::new(hosts))]
    through: Vec<String>,
}

/// Options of `fleet matrix`.
#[derive(Debug, Args)]
pub struct Matrix {
    /// The traffic, such as 5432/tcp, or a service's name
    #[arg(value_name = "TRAFFIC")]
    traffic: String,
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
        let report = fleet::reach(&side(context)?, ends, &self.traffic, &self.through)?;
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
        let report = fleet::matrix(&side(context)?, &self.traffic)?;
        drop(busy);
        Ok(context.fine(&report, render::matrix))
    }
}
