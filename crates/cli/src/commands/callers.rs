//! `callers`: who came, as the kernel remembers it.

use super::context::Context;
use super::output::Output;
use super::span::span;
use crate::render::{self, Format};
use clap::{Args, ValueEnum};
use std::path::PathBuf;
use std::time::Duration;
use tipstaff_app::vocabulary::Fared;
use tipstaff_app::{Failure, callers, store};

/// Options of `callers`.
#[derive(Debug, Args)]
#[command(group = clap::ArgGroup::new("fared").args(["denied", "allowed"]))]
pub struct Callers {
    /// Only those who were turned away
    #[arg(long)]
    pub denied: bool,
    /// Only those who were admitted
    #[arg(long)]
    pub allowed: bool,
    /// Only what this decided: a rule, or such as default/inbound
    #[arg(long, value_name = "NAME")]
    pub rule: Option<String>,
    /// Only these: places and addresses
    #[arg(long, num_args = 1.., value_name = "PLACE|ADDRESS")]
    pub from: Vec<String>,
    /// Only who came for this, such as 22/tcp
    #[arg(long, num_args = 1.., value_name = "TRAFFIC")]
    pub traffic: Vec<String>,
    /// Only who came since so long ago, such as 2h
    #[arg(long, value_name = "SPAN", value_parser = span)]
    pub since: Option<Duration>,
    /// Only who came for the first time: in the last day, or the span of --since
    #[arg(long)]
    pub new: bool,
    /// Put together what is of one sender, one network, about one port, or decided by one rule
    #[arg(long, value_name = "WHAT")]
    pub by: Option<By>,
    /// Forget all who came
    #[arg(long, conflicts_with_all = ["fared", "rule", "from", "traffic", "since", "new", "by"])]
    pub clear: bool,
    /// Write down who came, for after a reboot, as the service does when it stops
    #[arg(long, conflicts_with_all = ["fared", "rule", "from", "traffic", "since", "new", "by", "clear"])]
    pub save: bool,
    /// Write how many came into this file, whole or not at all, for a collector that reads files (OpenMetrics);
    /// nothing is printed
    #[arg(long, value_name = "PATH", conflicts_with_all = ["by", "clear", "save"])]
    pub textfile: Option<PathBuf>,
}

/// What is put together.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub enum By {
    /// All of one address
    Sender,
    /// All of one network: 24 bits of IPv4, 64 of IPv6
    Network,
    /// All who wanted the same
    Port,
    /// All that one decision decided
    Rule,
}

impl Callers {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        if self.save {
            let saved = callers::save(context.machine, context.home)?;
            return Ok(context.fine(&saved, render::saved));
        }
        if self.clear {
            let cleared = callers::clear(context.machine)?;
            return Ok(context.fine(&cleared, render::cleared));
        }
        let measured = self.textfile.is_some() || context.format() == Format::Openmetrics;
        if measured && self.by.is_some() {
            return Err(Failure::usage(
                "measurements are put together by what was decided",
                "leave out `--by`",
            ));
        }
        let policy = context.here();
        let request = callers::Request {
            fared: match (self.denied, self.allowed) {
                (true, _) => Some(Fared::Denied),
                (_, true) => Some(Fared::Admitted),
                _ => None,
            },
            rule: self.rule.clone(),
            from: self.from.clone(),
            traffic: self.traffic.clone(),
            since: self.since,
            new: self.new,
            by: self.by.or(measured.then_some(By::Rule)).map(|it| match it {
                By::Sender => callers::By::Sender,
                By::Network => callers::By::Network,
                By::Port => callers::By::Port,
                By::Rule => callers::By::Rule,
            }),
        };
        let report = callers::report(context.machine, policy.as_ref(), &request)?;
        if let Some(path) = &self.textfile {
            store::put_for_all(path, render::callers_metrics(&report).as_bytes())?;
            return Ok(Output { text: String::new(), outcome: report.outcome() });
        }
        Ok(match context.format() {
            Format::Openmetrics => {
                Output { text: render::callers_metrics(&report), outcome: report.outcome() }
            }
            Format::Csv => {
                Output { text: render::callers_sheet(&report), outcome: report.outcome() }
            }
            _ => context.shown(&report, report.outcome(), render::callers),
        })
    }
}
