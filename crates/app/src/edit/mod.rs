//! Changes of the policy from the command line: what they change is told, then they are written
//! all at once or not at all.

mod broken;
mod files;
mod hosts;

pub(super) use files::{FileChange, put_in_place, told, write_down};
pub use files::{Line, OtherFile};
pub use hosts::HostEffect;
pub(crate) use hosts::{OnHosts, on_hosts};

use super::finding::Finding;
use super::region::{RegionWords, Words};
use super::{Failure, host_name, load_all};
use crate::Outcome;
use crate::store;
use crate::vocabulary as say;
use serde::Serialize;
use std::path::Path;
use tipstaff_core::analysis::{ordinary, piece_of, shares};
use tipstaff_core::plan::{Decision, HostPlan, Kind, RuleId, resolve};
use tipstaff_core::policy::edit::{EditError, Edited, ItemProblem};
use tipstaff_core::policy::{Policy, Source, Time, Used, read_all};
use tipstaff_core::space::without;

/// What a change did, or would do.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// What was asked for, in words.
    pub done: String,
    /// The file that was or would be changed.
    pub file: String,
    /// Whether it was written.
    pub written: bool,
    /// What it changes for packets, host by host; hosts for which nothing changes are left out.
    pub hosts: Vec<HostEffect>,
    /// If nothing changes for packets, why.
    pub nothing: Option<String>,
    /// What the rule matches and others decide, or decided alike before.
    pub notes: Vec<Note>,
    /// Expectations that held before, and do not hold any more.
    pub broken: Vec<Finding>,
    /// Places that rules name and whose files have not been read yet: told as if they held nothing.
    pub unread: Vec<String>,
    /// The lines that go and come.
    pub lines: Vec<Line>,
    /// Further files that were or would be changed.
    pub others: Vec<OtherFile>,
}

impl Report {
    /// Whether the change was made, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.broken.is_empty() { Outcome::Fine } else { Outcome::Found }
    }
}

/// Packets that a rule matches without making a difference.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Note {
    /// Why it makes none: `decided-above` or `already-so`.
    pub kind: say::Idle,
    /// Who decides, or decided.
    pub by: String,
    /// The verdict that the rule gives.
    pub verdict: say::Verdict,
    /// The packets that the rule decides.
    pub regions: Vec<RegionWords>,
}

/// A change to make.
pub struct Request<'r> {
    /// The policy: a file or a folder.
    pub path: &'r Path,
    /// The host, as asked for.
    pub host: Option<&'r str>,
    /// Whether the change is about that host.
    pub about_host: bool,
    /// The rule that it is about, if it is about one.
    pub rule: Option<&'r str>,
    /// What is done, in words.
    pub done: String,
    /// The file that something new goes into, if one is named.
    pub file: Option<&'r str>,
    /// Whether nothing is to be written.
    pub dry: bool,
}

/// Reads the policy, changes it, tells the effect, and writes it.
///
/// # Errors
/// [`Failure`] if the change cannot be made, if the result would not be a policy, or if it cannot
/// be written; then nothing is changed.
pub fn edit(
    request: &Request<'_>,
    change: impl FnOnce(&[Source], &Policy, &str) -> Result<Edited, EditError>,
) -> Result<Report, Failure> {
    // Whoever else changes the policy waits until this is done.
    let _lock = store::lock(request.path)?;
    let (sources, old, now) = load_all(request.path)?;
    let mut all = sources.clone();
    all.extend(files::new_file(request.path, request.file, &sources)?);
    let to_files = |about: &str| {
        let edited = change(&all, &old, about)?;
        Ok(vec![(all[edited.source].name.to_string(), Some(edited.text))])
    };
    carry_out(request, (&sources, &old, now), to_files, |changes| {
        write_down(request.path, &request.done, changes)
    })
}

/// Makes a change of a policy that was read, and tells what it does.
pub(super) fn carry_out(
    request: &Request<'_>,
    (sources, old, now): (&[Source], &Policy, Time),
    change: impl FnOnce(&str) -> Result<Vec<(String, Option<String>)>, EditError>,
    write: impl FnOnce(&[FileChange]) -> Result<(), Failure>,
) -> Result<Report, Failure> {
    let about = match request.about_host {
        true => Some(host_name(old, request.host, now)?),
        false => None,
    };
    let wanted = change(about.as_deref().unwrap_or_default());
    let wanted = wanted.map_err(|error| refused(&error, request))?;
    let (changes, texts) = files::changes(sources, wanted);
    let new =
        read_all(&texts).map_err(|problems| Failure::Typed { sources: texts.clone(), problems })?;
    let OnHosts { hosts, broken } = on_hosts((old, &new), now);
    let noted = match request.rule.zip(about.as_deref()) {
        Some((rule, host)) => match (resolve(old, host, now), resolve(&new, host, now)) {
            (Ok(was), Ok(is)) => notes(rule, (&new, &is), &was),
            _ => Vec::new(),
        },
        None => Vec::new(),
    };
    let nothing = hosts
        .is_empty()
        .then(|| why_nothing(request.rule.zip(about.as_deref()), &new, &noted, now));
    if !request.dry && !changes.is_empty() {
        write(&changes)?;
    }
    let (file, lines, others) = told(&changes, sources);
    Ok(Report {
        done: request.done.clone(),
        file,
        written: !request.dry,
        hosts,
        nothing,
        notes: noted,
        broken,
        unread: unread(&new),
        lines,
        others,
    })
}

/// Places that are used and whose files have not been read yet.
fn unread(policy: &Policy) -> Vec<String> {
    let is_used =
        |name: &str| policy.uses.iter().any(|it| it.what == Used::Place && it.name == name);
    let unread = policy.places.iter().filter(|it| it.not_read_yet().is_some() && is_used(&it.name));
    unread.map(|it| it.name.clone()).collect()
}

fn refused(error: &EditError, request: &Request<'_>) -> Failure {
    let help = match error {
        EditError::Unknown { what: "file", .. } => {
            format!(
                "{} is one file; a folder of files can be a policy, too",
                request.path.display()
            )
        }
        EditError::Unknown { what: "expectation", .. } => {
            "they are listed, with their numbers, by `tipstaff expect list`".to_owned()
        }
        EditError::Unknown { what: "interfaces", .. } => {
            "they are listed by `tipstaff interface list`".to_owned()
        }
        EditError::Unknown { what: "accept", .. } => {
            "`tipstaff review` tells which findings are accepted, and where".to_owned()
        }
        EditError::Unknown { what: "posture", .. } => {
            "they are listed by `tipstaff posture`; a section such as [host.NAME.posture.POSTURE] makes one"
                .to_owned()
        }
        EditError::Unknown { what, .. } => {
            format!("the {what}s are listed by `tipstaff {what} list`")
        }
        EditError::Taken { what: "use of the bundle", name } => {
            format!("`tipstaff rule move {}` gives it another place", name.escape_debug())
        }
        EditError::Taken { what, .. } => {
            format!("choose another name, or change it with `tipstaff {what} change`")
        }
        EditError::Elsewhere { what, owner, .. } => format!("add --{what} {owner}"),
        EditError::InUse { .. } => "take it out there first".to_owned(),
        EditError::Item { key, problem, .. } => match problem {
            ItemProblem::Last => {
                format!("put another in first with --also-{key}, or remove the whole")
            }
            ItemProblem::AllAlready => format!("--{key} narrows it to what you name"),
            ItemProblem::OtherVerdict(other) => {
                format!("--also-{other} adds to what it does; --{key} makes it do that instead")
            }
            ItemProblem::There | ItemProblem::NotThere(_) => {
                "look at it with `tipstaff rule list`, `place list` or `service list`".to_owned()
            }
        },
        EditError::Form { .. } => {
            "give each rule a section of its own, such as [[host.NAME.rule]]".to_owned()
        }
        _ => format!("look at {}", request.path.display()),
    };
    Failure::usage(error.to_string(), help)
}

/// What the rule matches and does not change: since a decision above takes it, or since it fared
/// alike before.
fn notes(rule: &str, (policy, plan): (&Policy, &HostPlan), before: &HostPlan) -> Vec<Note> {
    let id = RuleId::rule(rule);
    let Some((direction, decision)) = plan.decisions().find(|(_, it)| it.id == id) else {
        return Vec::new();
    };
    if decision.idle.is_some() {
        return Vec::new();
    }
    let words = Words::of(policy, plan, direction);
    let ordinary = ordinary(plan, direction);
    let mut region = Vec::new();
    for condition in &decision.conditions {
        let part = vec![piece_of(condition).intersection(&ordinary)];
        region.extend(region.clone().iter().fold(part, without));
    }
    region.retain(|piece| !piece.is_empty());
    let mut notes = Vec::new();
    let note = |kind, by: &Decision, pieces: &[_]| Note {
        kind,
        by: by.id.to_string(),
        verdict: by.act.verdict().into(),
        regions: words.pieces(pieces),
    };
    for share in shares(plan, direction, region).unwrap_or_default() {
        if share.decision.id.kind == Kind::Baseline {
            // It always comes first; to say so each time would only distract.
            continue;
        }
        if share.decision.id != id {
            notes.push(note(say::Idle::DecidedAbove, share.decision, &share.pieces));
            continue;
        }
        for was in shares(before, direction, share.pieces).unwrap_or_default() {
            if was.decision.act == decision.act && was.decision.id != id {
                notes.push(note(say::Idle::AlreadySo, was.decision, &was.pieces));
            }
        }
    }
    notes
}

/// Why nothing changes; for a rule, by its name and its host's.
fn why_nothing(rule: Option<(&str, &str)>, policy: &Policy, notes: &[Note], now: Time) -> String {
    let decision = rule.and_then(|(rule, host)| {
        let plan = resolve(policy, host, now).ok()?;
        plan.find(&RuleId::rule(rule)).cloned()
    });
    if let Some(decision) = &decision
        && decision.idle.is_some()
    {
        return "changes nothing: the rule is not in force".into();
    }
    let names = |kind: say::Idle| {
        let mut names: Vec<String> =
            notes.iter().filter(|it| it.kind == kind).map(|it| format!("`{}`", it.by)).collect();
        names.dedup();
        names.join(", ")
    };
    let (above, same) = (names(say::Idle::DecidedAbove), names(say::Idle::AlreadySo));
    match (above.is_empty(), same.is_empty()) {
        (false, true) => {
            format!("changes nothing, because {above} above already decides all of it")
        }
        (true, false) => format!("changes nothing: all of it fared so before, by {same}"),
        (false, false) => format!(
            "changes nothing: {above} above decides a part, and the rest fared so before, by {same}"
        ),
        (true, true) => "changes nothing for any packet".into(),
    }
}
