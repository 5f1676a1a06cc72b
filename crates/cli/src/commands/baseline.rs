//! `baseline`: what keeps a host's network working.

use super::complete::labels;
use super::context::Context;
use super::output::Output;
use super::values::text_of;
use crate::render;
use clap::{Args, ValueEnum};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::Failure;
use tipstaff_app::edit::{self, Request};
use tipstaff_core::policy::edit::{Assignment, Entry, Target, Value, set_entries};

/// Whether a part of the baseline is there.
#[derive(Clone, Copy, Debug, ValueEnum)]
enum Switch {
    /// It is
    On,
    /// It is not
    Off,
}

/// Options of `baseline`.
#[derive(Debug, Args)]
pub struct Baseline {
    /// Echo requests: allow, deny, by-rules, or a rate such as 5/second
    #[arg(long, value_name = "PING")]
    ping: Option<String>,
    /// Traffic on the loopback interface is allowed
    #[arg(long, value_name = "SWITCH")]
    loopback: Option<Switch>,
    /// Loopback addresses from elsewhere are denied
    #[arg(long, value_name = "SWITCH")]
    false_loopback: Option<Switch>,
    /// What fits no connection is denied
    #[arg(long, value_name = "SWITCH")]
    invalid: Option<Switch>,
    /// Replies, and errors about what was allowed, are allowed
    #[arg(long, value_name = "SWITCH")]
    replies: Option<Switch>,
    /// Neighbour discovery, MLD and IGMP are allowed
    #[arg(long, value_name = "SWITCH")]
    neighbours: Option<Switch>,
    /// What a DHCP client needs is allowed
    #[arg(long, value_name = "SWITCH")]
    dhcp: Option<Switch>,
    /// For all hosts with this label; for the host if left out
    #[arg(long, value_name = "NAME", add = Names::new(labels))]
    label: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

impl Baseline {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let switch = |key: &'static str, on: Option<Switch>| {
            on.map(|it| (key, Some(Value::Switch(matches!(it, Switch::On)))))
        };
        let keys: Vec<Assignment> = [
            text_of("ping", self.ping.as_ref()),
            switch("loopback", self.loopback),
            switch("false-loopback", self.false_loopback),
            switch("invalid", self.invalid),
            switch("replies", self.replies),
            switch("neighbours", self.neighbours),
            switch("dhcp", self.dhcp),
        ]
        .into_iter()
        .flatten()
        .collect();
        if keys.is_empty() {
            return Err(Failure::usage(
                "no part of the baseline is to change",
                "name at least one, such as --ping by-rules or --dhcp off",
            ));
        }
        let words: Vec<&str> = keys.iter().map(|it| it.0).collect();
        let entries: Vec<Entry> =
            keys.iter().map(|(key, value)| ((*key).to_owned(), value.clone())).collect();
        let request = Request {
            path: &context.global.policy,
            host: context.host(),
            about_host: self.label.is_none(),
            rule: None,
            done: format!("baseline changed: {}", words.join(", ")),
            dry: self.dry_run,
        };
        let report = edit::edit(&request, |sources, _, host| {
            let owner = self.label.as_deref().map_or(("host", host), |label| ("label", label));
            set_entries(sources, Target::Section(owner), "baseline", &entries, true)
        })?;
        Ok(context.shown(&report, report.outcome(), render::edited))
    }
}
