//! `finding`: findings of `review` that are meant so.

use super::complete::{bundles, labels, places, rules, services};
use super::context::Context;
use super::output::Output;
use super::values::text;
use crate::render;
use clap::{Args, Subcommand};
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::Failure;
use tipstaff_app::edit::{self, Request};
use tipstaff_core::policy::edit::{Target, set_entries};

/// What can be done about findings.
#[derive(Debug, Subcommand)]
pub enum Finding {
    /// Accept a finding that is meant so, with the reason
    Accept(Accepted),
    /// Do not accept it any more
    Withdraw(About),
}

/// Options of `finding accept`.
#[derive(Debug, Args)]
pub struct Accepted {
    #[command(flatten)]
    about: About,
    /// The reason, for whoever reads it later
    #[arg(long, value_name = "TEXT")]
    why: String,
}

/// Which finding it is, and what it is about.
#[derive(Debug, Args)]
pub struct About {
    /// The finding, by its code, such as wide-open
    code: String,
    /// The rule that it is about; the host if nothing is named
    #[arg(long, value_name = "NAME", add = Names::new(rules), conflicts_with_all = ["place", "service", "expectation"])]
    rule: Option<String>,
    /// The place that it is about
    #[arg(long, value_name = "NAME", add = Names::new(places), conflicts_with_all = ["service", "bundle", "expectation"])]
    place: Option<String>,
    /// The service that it is about
    #[arg(long, value_name = "NAME", add = Names::new(services), conflicts_with_all = ["bundle", "expectation"])]
    service: Option<String>,
    /// The bundle that it is about; with --rule, the bundle whose rule that is
    #[arg(long, value_name = "NAME", add = Names::new(bundles), conflicts_with = "expectation")]
    bundle: Option<String>,
    /// The label that it is about; with --rule or --expectation, the label whose it is
    #[arg(long, value_name = "NAME", add = Names::new(labels), conflicts_with_all = ["place", "service", "bundle"])]
    label: Option<String>,
    /// The expectation that it is about, by its number
    #[arg(long, value_name = "NUMBER")]
    expectation: Option<usize>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

impl About {
    fn target<'n>(&'n self, host: &'n str) -> Target<'n> {
        let owner = match (&self.bundle, &self.label) {
            (Some(bundle), _) => ("bundle", bundle.as_str()),
            (None, Some(label)) => ("label", label.as_str()),
            (None, None) => ("host", host),
        };
        match (&self.rule, self.expectation, &self.place, &self.service) {
            (Some(rule), ..) => Target::Rule(owner, rule),
            (_, Some(number), ..) => Target::Expectation(owner, number),
            (_, _, Some(place), _) => Target::Section(("place", place)),
            (.., Some(service)) => Target::Section(("service", service)),
            _ => Target::Section(owner),
        }
    }

    fn set(&self, context: &Context, why: Option<&str>) -> Result<Output, Failure> {
        let elsewhere = self.place.is_some()
            || self.service.is_some()
            || self.bundle.is_some()
            || self.label.is_some();
        let request = Request {
            path: &context.global.policy,
            host: context.host(),
            about_host: !elsewhere,
            rule: None,
            done: match why {
                Some(_) => format!("accepted: {}", self.code),
                None => format!("not accepted any more: {}", self.code),
            },
            file: None,
            dry: self.dry_run,
        };
        let entries = [(self.code.clone(), why.map(text))];
        let busy = render::progress("working out the effect");
        let report = edit::edit(&request, |sources, _, host| {
            set_entries(sources, self.target(host), "accept", &entries, false)
        })?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::edited))
    }
}

impl Finding {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        match self {
            Self::Accept(it) => it.about.set(context, Some(&it.why)),
            Self::Withdraw(it) => it.set(context, None),
        }
    }
}
