//! `turn-away`: somebody is turned away, in the policy and in force, in one step; and the reverse.

use crate::as_in_force::as_in_force;
use crate::edit::{self, Request};
use crate::transaction::{self, Options};
use crate::undoing;
use crate::{Failure, Loaded, Outcome, load_for_kernel};
use serde::Serialize;
use std::path::Path;
use std::time::Duration;
use tipstaff_core::policy::edit::{ItemEdit, NamedEdit, edit_named};
use tipstaff_core::policy::{Source, Time, Used, read_addresses, who_is_turned_away};

/// The key of the list.
const LIST: &str = "turned-away";

/// Who is to be turned away, or not any more.
#[derive(Clone, Debug, Default)]
pub struct Wish {
    /// An address, a network, or a place of the policy.
    pub who: String,
    /// For how long; `None`: until that is taken back.
    pub time: Option<Duration>,
    /// Why, for readers.
    pub why: String,
    /// Whether they are not to be turned away any more.
    pub no_more: bool,
}

/// What was done, or would be.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// Who it is about.
    pub who: String,
    /// Whether they are turned away now, or would be.
    pub turned_away: bool,
    /// Until when, in UTC; `null`: until that is taken back.
    pub until: Option<String>,
    /// The change of the policy, and what it changes for packets.
    pub edit: edit::Report,
    /// How it was put in force; `null` if it was only asked, or no rules are in force.
    pub enforced: Option<transaction::Report>,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
}

impl Report {
    /// Whether all expectations still hold.
    pub fn outcome(&self) -> Outcome {
        self.edit.outcome()
    }
}

/// Has somebody turned away, or not any more: writes it into the policy's host section, and puts it in force. What
/// cannot be put in force is taken back.
///
/// # Errors
/// [`Failure`] if it names nobody, if the policy has changes that are not in force, or if the kernel refuses.
pub fn turn(
    path: &Path,
    host: Option<&str>,
    wish: &Wish,
    options: &Options<'_>,
) -> Result<Report, Failure> {
    let loaded = load_for_kernel(options.machine, path, host)?;
    let who = wish.who.trim();
    check_name(&loaded, who)?;
    let held = options.machine.rules()?.filter(|it| !it.dormant);
    let options = match &held {
        Some(held) => &as_in_force(&loaded, held, options, "turn away")?,
        None => options,
    };
    let until = wish.time.filter(|_| !wish.no_more).map(|it| {
        // Whole seconds, no fewer than were asked for.
        let seconds = i64::try_from(it.as_secs()).unwrap_or(i64::MAX).saturating_add(1);
        Time::from_seconds(loaded.now.seconds().saturating_add(seconds))
    });
    let name = loaded.plan.host.clone();
    let change = NamedEdit::Change(Vec::new(), items(&loaded, who, until, wish)?);
    let how = if wish.no_more { "turned away no more" } else { "turned away" };
    let request = Request {
        path,
        host,
        about_host: false,
        rule: None,
        done: format!("{how}: {who}"),
        file: None,
        dry: options.dry,
    };
    let edit = edit::edit(&request, |sources, policy, _| {
        edit_named(sources, policy, (Used::Host, &name), &change, None)
    })?;
    let mut report = Report {
        who: who.to_owned(),
        turned_away: !wish.no_more,
        until: until.map(|it| it.to_string()),
        edit,
        enforced: None,
        remarks: Vec::new(),
    };
    if options.dry {
        return Ok(report);
    }
    if held.is_none() {
        report.remarks.push("no rules are in force; `tipstaff enforce` puts them in force".into());
        return Ok(report);
    }
    let enforced = load_for_kernel(options.machine, path, host).and_then(|it| {
        if !wish.no_more && !all_are_turned_away(&it, who) {
            let why = "not all of them are: the list leaves some out with `!`";
            report.remarks.push(why.into());
        }
        transaction::enforce(&it, options)
    });
    match enforced {
        // What changes stands with the change of the policy.
        Ok(enforced) => report.enforced = Some(transaction::Report { told: true, ..enforced }),
        Err(failure) => return Err(taken_back(path, host, &report.edit, failure)),
    }
    Ok(report)
}

/// Takes the change of the policy back, so that only what is in force stands there, unless somebody has changed it
/// since; then that is said.
fn taken_back(path: &Path, host: Option<&str>, edit: &edit::Report, failure: Failure) -> Failure {
    let back = undoing::take_back_if(path, host, &edit.done);
    match back {
        Ok(()) => failure,
        Err(why) => failure.with_help(format!(
            "the policy says it all the same, since that could not be taken back: {}",
            why.line()
        )),
    }
}

/// Whether that names somebody.
fn check_name(loaded: &Loaded, who: &str) -> Result<(), Failure> {
    if who.is_empty() || who.starts_with('!') || who.contains([' ', '(', ')']) {
        return Err(Failure::usage(
            format!("`{}` names nobody", who.escape_debug()),
            "an address, a network, or a place of the policy",
        ));
    }
    let source = Source::new("who", who);
    read_addresses(&loaded.policy, &source)
        .map_err(|problems| Failure::Input { sources: vec![source], problems })?;
    Ok(())
}

/// Whether each address of these is turned away.
fn all_are_turned_away(loaded: &Loaded, who: &str) -> bool {
    let Ok(wanted) = read_addresses(&loaded.policy, &Source::new("who", who)) else { return false };
    let section = loaded.policy.hosts.iter().find(|it| it.name == loaded.plan.host);
    section.and_then(|it| it.turned_away.as_ref()).is_some_and(|list| {
        let for_a_time = list.for_a_time.iter().filter(|it| it.0 > loaded.now);
        let all = for_a_time.fold(list.addresses.clone(), |all, it| all.union(&it.1));
        wanted.difference(&all).is_empty()
    })
}

/// What goes out of the list, and what comes into it.
fn items(
    loaded: &Loaded,
    who: &str,
    until: Option<Time>,
    wish: &Wish,
) -> Result<Vec<ItemEdit>, Failure> {
    let name = &loaded.plan.host;
    let section = loaded.policy.hosts.iter().find(|it| it.name == *name);
    let list = section.and_then(|it| it.turned_away.as_ref());
    let (own, of_labels) = list.map(|it| it.terms.split_at(it.own)).unwrap_or_default();
    let of_them = |it: &&String| who_is_turned_away(it) == who;
    let there: Vec<String> = own.iter().filter(of_them).cloned().collect();
    let gone = |it: &String| item(it.clone(), false);
    if wish.no_more {
        if there.is_empty() && of_labels.iter().any(|it| of_them(&it)) {
            return Err(Failure::usage(
                format!("`{}` is turned away by a label of {name}", who.escape_debug()),
                "`tipstaff label change LABEL --not-turned-away` takes it out for all hosts with it",
            ));
        }
        if there.is_empty() {
            return Err(Failure::usage(
                format!("`{}` is not turned away on {name}", who.escape_debug()),
                "`tipstaff host list` tells who is",
            ));
        }
        return Ok(there.iter().map(gone).collect());
    }
    let moment = until.map_or(String::new(), |it| format!(" until {it}"));
    let why = wish.why.split_whitespace().collect::<Vec<_>>().join(" ");
    let why = if why.is_empty() { why } else { format!(" ({why})") };
    let new = format!("{who}{moment}{why}");
    if there.contains(&new) {
        return Err(Failure::usage(
            format!("`{}` is turned away already", new.escape_debug()),
            "--no-more takes that back, --for gives it an end",
        ));
    }
    Ok(there.iter().map(gone).chain([item(new, true)]).collect())
}

fn item(item: String, also: bool) -> ItemEdit {
    ItemEdit { key: LIST, item, meaning: None, also }
}
