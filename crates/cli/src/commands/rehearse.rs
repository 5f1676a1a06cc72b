//! `rehearse`: every port, with real packets.

use super::complete::places;
use super::context::Context;
use super::in_posture::InPosture;
use super::output::Output;
use crate::render;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::{Failure, rehearse};

/// Options of `rehearse`.
#[derive(Debug, Args)]
pub struct Rehearse {
    /// Try a copy of this machine as it stands, with all its rules and listeners, rather than the policy
    #[arg(long)]
    pub live: bool,
    /// Places or addresses to try from; everybody if left out
    #[arg(long, value_name = "PLACE|ADDRESS", num_args = 1.., add = Names::new(places))]
    pub from: Vec<String>,
    /// The traffic to try, such as 9100/tcp; every TCP and UDP port and ICMP type, and SCTP where rules tell it apart, if left out
    #[arg(long, value_name = "TRAFFIC")]
    pub traffic: Option<String>,
    #[command(flatten)]
    pub in_posture: InPosture,
}

impl Rehearse {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let request = rehearse::Request {
            live: self.live,
            from: &self.from,
            traffic: self.traffic.as_deref(),
            quick: false,
            instead: None,
        };
        let loaded = if self.live {
            context.here_in(&self.in_posture)?
        } else {
            context.policy_in(&self.in_posture)?
        };
        let bar = render::Bar::new();
        let report = rehearse::report(context.machine, &loaded, &request, &|tried, all| {
            bar.show(tried, all);
        })?;
        drop(bar);
        Ok(context.shown(&report, report.outcome(), render::rehearsed))
    }
}
