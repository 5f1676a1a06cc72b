//! Which rules an enforcement concerns.

use super::{Failure, Loaded};
use serde::Serialize;
use std::collections::BTreeSet;
use tipstaff_core::meaning::Atlas;
use tipstaff_core::plan::{Decision, Idle, Kind, RuleId};
use tipstaff_core::policy::Diagnostic;
use tipstaff_core::program::{Action, RuleProgram, Then};
use tipstaff_linux::ruleset::Snapshot;

/// What `enforce` changed.
#[derive(Debug, Serialize)]
pub struct Report {
    /// The host whose policy is now in force.
    pub host: String,
    /// The host whose policy was in force before; `null` if none was.
    pub replaced: Option<String>,
    /// How many rules of the policy are in force.
    pub rules: usize,
    /// How many rules of the policy are paused.
    pub paused: usize,
    /// Rules of the policy that have ended, and so are left out.
    pub ended: Vec<String>,
    /// Decisions that are new.
    pub new: Vec<String>,
    /// Decisions that were there and take other packets now, or do something else with them.
    pub changed: Vec<String>,
    /// Decisions that are gone.
    pub gone: Vec<String>,
}

/// Rules for programs cannot be enforced yet, and without their programs they would be wider than
/// written: the first one is refused by name.
///
/// # Errors
/// [`Failure`] if there is one.
pub fn no_programs(loaded: &Loaded) -> Result<(), Failure> {
    let names_programs = |decision: &Decision| {
        decision.idle.is_none() && decision.conditions.iter().any(|it| !it.programs.is_empty())
    };
    let mut decisions = loaded.plan.decisions().map(|it| it.1);
    let Some(decision) = decisions.find(|it| names_programs(it)) else { return Ok(()) };
    let message = format!("`{}` names programs, which cannot be enforced yet", decision.id);
    let problem = match decision.origin.clone() {
        Some(origin) => Diagnostic::error("program-not-enforced", message, origin)
            .expected("without `program` it would be wider than written"),
        None => Diagnostic::general("program-not-enforced", message),
    };
    let problem = problem
        .help("nothing was changed; `show` and `ask` know the rule all the same")
        .help("pause it with `paused = true`, or narrow it by address and port alone");
    Err(Failure::Refusal { sources: loaded.sources.clone(), problem: Box::new(problem) })
}

/// What the policy changes, held against what the kernel held before.
pub fn report(loaded: &Loaded, before: Option<&Snapshot>) -> Report {
    let written = || loaded.plan.decisions().filter(|it| it.1.id.kind == Kind::Rule);
    let mut report = Report {
        host: loaded.plan.host.clone(),
        replaced: before.map(|before| before.host.clone()),
        rules: written().filter(|it| it.1.idle.is_none()).count(),
        paused: written().filter(|it| it.1.idle == Some(Idle::Paused)).count(),
        ended: written()
            .filter(|it| matches!(it.1.idle, Some(Idle::Ended(_))))
            .map(|it| it.1.id.to_string())
            .collect(),
        new: Vec::new(),
        changed: Vec::new(),
        gone: Vec::new(),
    };
    let Some(before) = before else { return report };
    let (old, new) = (decisions_of(&before.program), decisions_of(&loaded.program));
    let names = |ids: &mut dyn Iterator<Item = &&RuleId>| ids.map(ToString::to_string).collect();
    report.new = names(&mut new.difference(&old));
    report.gone = names(&mut old.difference(&new));
    report.changed = changed(&before.program, &loaded.program)
        .iter()
        .filter(|id| old.contains(id) && new.contains(id))
        .map(ToString::to_string)
        .collect();
    report
}

/// Every decision that something in the program serves.
fn decisions_of(program: &RuleProgram) -> BTreeSet<&RuleId> {
    let rules = || program.chains.iter().flat_map(|chain| &chain.rules);
    let chosen = rules().filter_map(|rule| match &rule.action {
        Action::Choose(lookup) => Some(&lookup.entries),
        _ => None,
    });
    let chosen = chosen.flatten().filter_map(|entry| match &entry.then {
        Then::Allow(id) | Then::Deny(id) => Some(id),
        Then::Jump(_) | Then::Opaque(_) => None,
    });
    rules().filter_map(|rule| rule.id.as_ref()).chain(chosen).collect()
}

/// The decisions that take other packets now, or do something else with them. What a default
/// takes is what rules leave to it, so it has changed only if it does something else.
fn changed(before: &RuleProgram, after: &RuleProgram) -> BTreeSet<RuleId> {
    let mut atlas = Atlas::new();
    let (old, new) = (atlas.program(before), atlas.program(after));
    let mut changed = BTreeSet::new();
    for (_, old, new) in atlas.fate_pairs(&old, &new) {
        let same = old.by() == new.by();
        let ids = old.by().into_iter().chain(new.by());
        changed.extend(ids.filter(|id| same || id.kind != Kind::Default).cloned());
    }
    changed
}
