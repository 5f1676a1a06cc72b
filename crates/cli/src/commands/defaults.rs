//! `defaults`: what happens where no rule decides.

use super::complete::labels;
use super::context::Context;
use super::output::Output;
use super::values::text_of;
use crate::render;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::Failure;
use tipstaff_app::edit::{self, Request};
use tipstaff_core::policy::edit::{Assignment, Entry, Target, Value, set_entries};

/// Options of `defaults`.
#[derive(Debug, Args)]
pub struct Defaults {
    /// For packets to the host: allow, deny or reject
    #[arg(long, value_name = "VERDICT")]
    inbound: Option<String>,
    /// For packets from the host
    #[arg(long, value_name = "VERDICT")]
    outbound: Option<String>,
    /// For packets through the host
    #[arg(long, value_name = "VERDICT")]
    forwarded: Option<String>,
    /// For all hosts with this label; for the host if left out
    #[arg(long, value_name = "NAME", add = Names::new(labels))]
    label: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    dry_run: bool,
}

impl Defaults {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let keys: Vec<Assignment> = [
            text_of("inbound", self.inbound.as_ref()),
            text_of("outbound", self.outbound.as_ref()),
            text_of("forwarded", self.forwarded.as_ref()),
        ]
        .into_iter()
        .flatten()
        .collect();
        let words: Vec<String> = keys
            .iter()
            .filter_map(|(key, value)| match value {
                Some(Value::Text(verdict)) => Some(format!("{key} {verdict}")),
                _ => None,
            })
            .collect();
        if keys.is_empty() {
            return Err(Failure::usage(
                "no default is to change",
                "name at least one of --inbound, --outbound and --forwarded",
            ));
        }
        let entries: Vec<Entry> =
            keys.iter().map(|(key, value)| ((*key).to_owned(), value.clone())).collect();
        let request = Request {
            path: &context.global.policy,
            host: context.host(),
            about_host: self.label.is_none(),
            rule: None,
            done: format!("defaults: {}", words.join(", ")),
            dry: self.dry_run,
        };
        let report = edit::edit(&request, |sources, _, host| {
            let owner = self.label.as_deref().map_or(("host", host), |label| ("label", label));
            set_entries(sources, Target::Section(owner), "default", &entries, true)
        })?;
        Ok(context.shown(&report, report.outcome(), render::edited))
    }
}
