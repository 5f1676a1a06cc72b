//! `fleet roll-out`, `hold` and `take`: what was sealed comes to the hosts.

use super::context::Context;
use super::membership::Carried;
use super::output::Output;
use super::span::span;
use crate::render;
use clap::Args;
use std::num::NonZeroUsize;
use std::time::Duration;
use tipstaff_app::fleet::{self, Far, How, RolledOut, Size, Steps, Trust};
use tipstaff_app::{Failure, kernel};

/// Options of `fleet roll-out`.
#[derive(Debug, Args)]
pub struct RollOut {
    #[command(flatten)]
    carried: Carried,
    /// Only hosts with one of these labels
    #[arg(long, value_name = "LABEL", num_args = 1..)]
    to: Vec<String>,
    /// How many hosts have it after each step, the last included: numbers, or shares of all that are meant
    #[arg(long, value_name = "STEPS", value_delimiter = ',', value_parser = Size::parse, default_value = "1,10%,100%")]
    steps: Vec<Size>,
    /// How long to wait between two steps
    #[arg(long, value_name = "SPAN", value_parser = span, default_value = "0s")]
    pause: Duration,
    /// At so many hosts that do not take it, let no more take it
    #[arg(long, value_name = "HOSTS", default_value = "1")]
    stop_at: NonZeroUsize,
    /// How long a host may take for it before it counts as one that does not
    #[arg(long, value_name = "SPAN", value_parser = span, default_value = "5m")]
    patience: Duration,
}

impl RollOut {
    fn steps(&self) -> Steps {
        let (sizes, to) = (self.steps.clone(), self.to.clone());
        let stop_at = self.stop_at.get();
        Steps { sizes, pause: self.pause, stop_at, patience: self.patience, to }
    }
}

/// Options of `fleet hold`.
#[derive(Debug, Args)]
pub struct Hold {
    #[command(flatten)]
    carried: Carried,
    /// The reason, for readers
    #[arg(long, value_name = "TEXT", default_value = "")]
    why: String,
}

/// Options of `fleet take`.
#[derive(Debug, Args)]
pub struct Take {
    #[command(flatten)]
    carried: Carried,
    /// Give up what somebody changed of the policy on this machine
    #[arg(long)]
    over_local: bool,
    /// Try once more what went back
    #[arg(long)]
    again: bool,
}

/// Says how far it is where somebody looks on.
fn watched(trust: &Trust, steps: &Steps) -> Result<RolledOut, Failure> {
    let busy = render::progress("rolling out");
    let mut tell = |far: &Far| {
        busy.say(&format!("{} of {} told have it, {} are meant", far.have, far.told, far.all));
    };
    fleet::roll_out(trust, steps, &mut tell)
}

impl RollOut {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let report = watched(&self.carried.trust()?, &self.steps())?;
        Ok(context.shown(&report, report.outcome(), render::rolled_out))
    }
}

impl Hold {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let report = fleet::hold(&self.carried.trust()?, &self.why)?;
        Ok(context.fine(&report, render::held))
    }
}

impl Take {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        kernel::must_be_new_enough(context.machine)?;
        let busy = render::progress("taking");
        let how = How { over_local: self.over_local, again: self.again };
        let report = fleet::take(context.machine, context.home, &self.carried.trust()?, how)?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::took))
    }
}
