//! Changes of what has a name.

use super::complete::places_and_services;
use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use clap_complete::ArgValueCandidates as Names;
use tipstaff_app::Failure;
use tipstaff_app::edit::{self, Request};
use tipstaff_core::policy::Used;
use tipstaff_core::policy::edit::{Assignment, ItemEdit, NamedEdit, edit_named};

/// What goes.
#[derive(Debug, Args)]
pub struct Gone {
    /// Its name
    #[arg(add = Names::new(places_and_services))]
    pub name: String,
    /// Show the effect and the lines that would change; write nothing
    #[arg(long)]
    pub dry_run: bool,
}

/// Changes a place, service, bundle, label or host; a new one goes into that file, if one is named.
///
/// # Errors
/// Why it could not do its work.
pub fn named(
    context: &Context,
    (what, name): (Used, &str),
    edit: &NamedEdit,
    file: Option<&str>,
    dry: bool,
) -> Result<Output, Failure> {
    let word = what.as_str();
    let done = match edit {
        NamedEdit::Add(_) => format!("{word} added: {name}"),
        NamedEdit::Change(..) => format!("{word} changed: {name}"),
        NamedEdit::Remove => format!("{word} removed: {name}"),
        NamedEdit::Rename(new) => format!("{word} {name} renamed: {new}"),
    };
    let request = Request {
        path: &context.global.policy,
        host: context.host(),
        about_host: false,
        rule: None,
        done,
        file,
        dry,
    };
    let busy = render::progress("working out the effect");
    let report = edit::edit(&request, |sources, policy, _| {
        edit_named(sources, policy, (what, name), edit, file)
    })?;
    drop(busy);
    Ok(context.shown(&report, report.outcome(), render::edited))
}

/// New keys, or a new name.
///
/// # Errors
/// [`Failure`] if neither was given, or both.
pub fn changed(
    (keys, items): (Vec<Assignment>, Vec<ItemEdit>),
    rename: Option<&String>,
    name: &str,
) -> Result<NamedEdit, Failure> {
    match (rename, keys.is_empty() && items.is_empty()) {
        (Some(new), true) => Ok(NamedEdit::Rename(new.clone())),
        (None, false) => Ok(NamedEdit::Change(keys, items)),
        (Some(_), false) => Err(Failure::usage(
            "a new name and new values are two changes",
            "do one after the other",
        )),
        (None, true) => Err(Failure::usage(
            format!("nothing is to change about `{name}`"),
            "name keys and their new values",
        )),
    }
}
