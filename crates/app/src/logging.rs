//! What the kernel reports of decisions, and whether anybody takes it.

use crate::Loaded;
use serde::Serialize;
use std::time::Duration;
use tipstaff_core::policy::{Level, Logging, Time};
use tipstaff_linux::ruleset::{self, Snapshot};
use tipstaff_linux::{Machine, Protocol};

/// What the kernel reports of decisions.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// Which decisions: `nothing`, `denied` or `all`.
    pub level: String,
    /// Until when all are reported, whatever the level is, in UTC; `null`: not so.
    pub all_until: Option<String>,
    /// How many at most, all together.
    pub at_most: String,
    /// How many at most of one sender.
    pub at_most_of_one: String,
    /// How many have been reported since the rules were put in force; `null` if that may not be looked at.
    pub reported: Option<u64>,
    /// How many were beyond what is reported at most.
    pub beyond: Option<u64>,
    /// Whether anybody takes the reports; `null` if that may not be looked at.
    pub taken: Option<bool>,
}

/// What is reported by the rules in force; `None` if nothing is.
pub(crate) fn report(
    machine: &dyn Machine,
    snapshot: Option<&Snapshot>,
    now: Time,
) -> Option<Report> {
    let logging = current(snapshot?.program.logging?, now)?;
    let counted =
        machine.channel(Protocol::Netfilter).and_then(|mut it| ruleset::reported(&mut it));
    let counted = counted.ok().flatten();
    Some(Report {
        level: logging.level.as_str().into(),
        all_until: logging.all_until.map(|it| it.to_string()),
        at_most: logging.total.to_string(),
        at_most_of_one: logging.each.to_string(),
        reported: counted.map(|it| it[1]),
        beyond: counted.map(|[asked, told]| asked.saturating_sub(told)),
        taken: machine.reports_are_taken().ok(),
    })
}

/// What is reported at that moment.
fn current(logging: Logging, now: Time) -> Option<Logging> {
    let all_until = logging.all_until.filter(|it| *it > now);
    Logging { all_until, ..logging }.of_anything()
}

impl Loaded {
    /// Has all decisions reported for so long from now on.
    pub(crate) fn log_all_for(&mut self, time: Duration) {
        let seconds = i64::try_from(time.as_secs()).unwrap_or(i64::MAX);
        self.report_all_until(Some(Time::from_seconds(self.now.seconds().saturating_add(seconds))));
    }

    /// Goes on reporting all decisions for as long as the rules in force do, unless it is said for how long.
    pub(crate) fn goes_on_logging(&mut self, before: Option<&Snapshot>) {
        let held = before.and_then(|it| it.program.logging?.all_until);
        let until = self.plan.logging.all_until.or(held).filter(|it| *it > self.now);
        let Some(until) = until else {
            self.report_all_until(None);
            return;
        };
        self.report_all_until(Some(until));
    }

    fn report_all_until(&mut self, until: Option<Time>) {
        self.plan.logging.all_until = until;
        if let Some(program) = self.lowered.get_mut() {
            program.logging = self.plan.logging.of_anything();
        }
    }
}

/// What is to be known of it when rules have been put in force, as whole sentences.
pub(crate) fn remarks(machine: &dyn Machine, policy: &Loaded) -> Vec<String> {
    let logging = policy.program().logging.and_then(|it| current(it, policy.now));
    let Some(logging) = logging else { return Vec::new() };
    let mut remarks = Vec::new();
    if let Some(until) = logging.all_until.filter(|_| logging.level != Level::All) {
        remarks.push(format!("all decisions are reported until {until}"));
    }
    if machine.reports_are_taken().is_ok_and(|taken| !taken) {
        remarks.push(
            "nobody takes what the rules report: `tipstaff watch --logged` does, or the service tipstaff-watch"
                .into(),
        );
    }
    remarks
}
