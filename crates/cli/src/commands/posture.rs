//! `posture`: what holds in certain situations.

use super::complete::postures;
use super::context::Context;
use super::output::Output;
use super::shut::Shut;
use super::span::lasting;
use super::staying::Staying;
use super::while_it_runs;
use crate::render;
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates as Names;
use std::ffi::OsString;
use std::time::Duration;
use tipstaff_app::posture::{self, Taking};
use tipstaff_app::{Failure, kernel, transaction};
use tipstaff_core::policy::SHUT;

/// Options of `posture`.
#[derive(Debug, Args)]
pub struct Posture {
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Say which is in force, since when, until when, and why; and which there are
    Show,
    /// Take one, as the policy has it; `shut` is built in
    Take(Box<Take>),
    /// Leave it: all is as it was
    Leave(Leave),
}

/// Options of `posture take`.
#[derive(Debug, Args)]
pub struct Take {
    /// The posture; `shut`: nothing in or out but loopback, whatever the rules say
    #[arg(add = Names::new(postures))]
    pub name: String,
    /// Leave it by itself after so long, such as 30m
    #[arg(long = "for", value_name = "SPAN", value_parser = lasting)]
    pub time: Option<Duration>,
    /// Run this command, and leave it when that ends, however it does; all behind it belongs to the command
    #[arg(
        long = "while",
        value_name = "COMMAND",
        num_args = 1..,
        allow_hyphen_values = true,
        conflicts_with_all = ["time", "dry_run"]
    )]
    pub command: Vec<OsString>,
    /// Why, for whoever looks later
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub why: String,
    /// For `shut`: also end the remote session from which this is asked
    #[arg(long)]
    pub all: bool,
    /// Show what would change; change nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Go on although the session you work in could not be opened again
    #[arg(long)]
    pub even_if_locked_out: bool,
    #[command(flatten)]
    pub staying: Staying,
}

/// Options of `posture leave`.
#[derive(Debug, Args)]
struct Leave {
    /// Let go on what only the posture admitted
    #[arg(long)]
    let_live: bool,
    /// Show what would change; change nothing
    #[arg(long)]
    dry_run: bool,
    /// Go on although the session you work in could not be opened again
    #[arg(long)]
    even_if_locked_out: bool,
    #[command(flatten)]
    staying: Staying,
}

impl Posture {
    /// Whether it runs a command of the caller's, with all their rights.
    pub fn runs_a_command(&self) -> bool {
        matches!(&self.what, Some(What::Take(take)) if !take.command.is_empty())
    }

    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let report = match &self.what {
            Some(What::Take(take)) => return take.run(context),
            Some(What::Leave(leave)) => {
                let options = transaction::Options {
                    dry: leave.dry_run,
                    even_if_locked_out: leave.even_if_locked_out,
                    // It was put in force on this one.
                    not_this_machine: true,
                    ..leave.staying.options(context)
                };
                posture::leave(&options, leave.let_live)?
            }
            Some(What::Show) | None => {
                posture::report(context.machine, context.home, context.policy().as_ref())?
            }
        };
        Ok(context.shown(&report, report.outcome(), render::posture))
    }
}

impl Take {
    fn run(&self, context: &Context) -> Result<Output, Failure> {
        if self.name == SHUT {
            return self.shut(context);
        }
        if self.all {
            let help = "`tipstaff posture leave`, or --for, ends this one";
            return Err(Failure::usage("--all is about `shut` only", help));
        }
        kernel::must_be_new_enough(context.machine)?;
        let options = transaction::Options {
            dry: self.dry_run,
            even_if_locked_out: self.even_if_locked_out,
            ..self.staying.options(context)
        };
        let taking = Taking {
            name: &self.name,
            time: self.time,
            ends_with: None,
            why: &self.why,
            then: None,
        };
        if let [command, words @ ..] = &self.command[..] {
            return while_it_runs::run(context, taking, &options, (command, words));
        }
        let place = (context.global.policy.as_path(), context.host());
        let report = posture::take(place, &taking, &options)?;
        Ok(context.shown(&report, report.outcome(), render::posture))
    }

    /// The posture that is built in needs no policy.
    fn shut(&self, context: &Context) -> Result<Output, Failure> {
        if self.dry_run || !self.command.is_empty() {
            let help = "--for 30m opens again by itself; `tipstaff posture leave` opens";
            return Err(Failure::usage("`shut` has neither --while nor --dry-run", help));
        }
        if self.staying.is_said() {
            let help = "it stays until `tipstaff posture leave`; --for 30m opens by itself";
            return Err(Failure::usage("`shut` waits for no confirmation", help));
        }
        let (time, all, why) = (self.time, self.all, self.why.clone());
        Shut { time, all, why, even_if_locked_out: self.even_if_locked_out }.run(context)
    }
}
