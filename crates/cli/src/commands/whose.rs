//! Whether a change is about a host, or about all hosts with a label.

use super::complete::labels;
use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::Failure;
use tipstaff_app::edit::{self, Request};
use tipstaff_core::policy::edit::{EditError, Edited, Owner};
use tipstaff_core::policy::{Policy, Source};

/// What a change is about.
#[derive(Debug, Args)]
pub struct Whose {
    /// The label whose hosts it is about; the host if left out
    #[arg(long, value_name = "NAME", add = Names::new(labels))]
    pub label: Option<String>,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    pub dry_run: bool,
}

impl Whose {
    /// Changes the section, whose kind and name are told, and shows the effect.
    ///
    /// # Errors
    /// Why it could not be done; then nothing is changed.
    pub fn edit(
        &self,
        context: &Context,
        done: String,
        change: impl FnOnce(&[Source], &Policy, Owner<'_>) -> Result<Edited, EditError>,
    ) -> Result<Output, Failure> {
        let request = Request {
            path: &context.global.policy,
            host: context.host(),
            about_host: self.label.is_none(),
            rule: None,
            done,
            file: None,
            dry: self.dry_run,
        };
        let busy = render::progress("working out the effect");
        let report = edit::edit(&request, |sources, policy, host| {
            let owner = self.label.as_deref().map_or(("host", host), |label| ("label", label));
            change(sources, policy, owner)
        })?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::edited))
    }
}
