//! Whether a change is about a host, or about all hosts with a label.

use super::complete::labels;
use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use std::borrow::Cow;
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
        self.edit_in(context, None, done, change)
    }

    /// Likewise, in a posture of the host if one is named.
    ///
    /// # Errors
    /// As for [`Whose::edit`].
    pub fn edit_in(
        &self,
        context: &Context,
        posture: Option<&str>,
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
            let within = section_in(host, posture);
            let owner = self.label.as_deref().map_or(("host", &*within), |label| ("label", label));
            change(sources, policy, owner)
        })?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::edited))
    }
}

/// The name of a host's section, or of that of a posture of it.
pub fn section_in<'h>(host: &'h str, posture: Option<&str>) -> Cow<'h, str> {
    match posture {
        Some(posture) => Cow::Owned(format!("{host}.posture.{posture}")),
        None => Cow::Borrowed(host),
    }
}
