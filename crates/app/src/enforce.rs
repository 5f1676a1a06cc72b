//! Which rules an enforcement concerns.

use super::{Failure, Loaded};
use crate::vocabulary as say;
use serde::Serialize;
use std::collections::BTreeSet;
use tipstaff_core::plan::{Decision, Idle, Kind, RuleId};
use tipstaff_core::policy::Diagnostic;
use tipstaff_core::program::{Action, RuleProgram, Then};
use tipstaff_linux::Machine;
use tipstaff_linux::ruleset::Snapshot;
use tipstaff_linux::ruleset::is_program;

/// What `enforce` changed in the kernel, and what it left alone.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
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
    /// Rules of the policy that are left out since they name programs.
    pub left_out: Vec<String>,
    /// The programs that rules in force name, with the files they are now.
    pub programs: Vec<Program>,
    /// What is not recognised of sockets on this kernel, as whole sentences.
    pub not_recognised: Vec<String>,
    /// Whether only what differs was changed in the kernel, with all else left as it was; `false` if all rules were
    /// replaced, `null` if none were.
    pub by_parts: Option<bool>,
    /// Decisions that are new.
    pub new: Vec<String>,
    /// Decisions that were there and take other packets now, or do something else with them.
    pub changed: Vec<String>,
    /// Decisions that are gone.
    pub gone: Vec<String>,
}

/// Where the kernel cannot tell programs apart, rules for them cannot be enforced, and without
/// their programs they would be wider than written: the first one is refused by name, with all that
/// is lacking.
///
/// # Errors
/// [`Failure`] if there is one.
pub(crate) fn can_tell_programs(machine: &dyn Machine, loaded: &Loaded) -> Result<(), Failure> {
    let in_force =
        |it: &&Decision| it.id.kind == Kind::Rule && it.idle.is_none() && it.names_owners();
    let mut decisions = loaded.plan.decisions().map(|it| it.1);
    let Some(decision) = decisions.find(in_force) else { return Ok(()) };
    let lacking = machine.lacking_for_programs();
    if lacking.is_empty() {
        return Ok(());
    }
    let by_program = decision.conditions.iter().any(|it| !it.programs.is_empty());
    let (key, what) = if by_program { ("program", "programs") } else { ("user", "users") };
    let message = format!("`{}` names {what}, which cannot be told apart here", decision.id);
    let mut problem = match decision.origin.clone() {
        Some(origin) => Diagnostic::error("program-not-enforced", message, origin)
            .expected(format!("without `{key}` it would be wider than written")),
        None => Diagnostic::general("program-not-enforced", message),
    };
    for lack in lacking {
        problem = problem.help(format!("missing: {lack}"));
    }
    let problem = problem
        .help("nothing was changed; `show`, `ask` and `rehearse` know the rule all the same")
        .help("--without-programs enforces the policy as if such rules were paused");
    Err(Failure::Refusal { sources: loaded.sources.clone(), problem: Box::new(problem) })
}

/// What the policy changes, held against what the kernel held before; of decisions that take other packets it is
/// known which are `changed`, or not.
pub fn report(
    machine: &dyn Machine,
    loaded: &Loaded,
    before: Option<&Snapshot>,
    changed: Option<&BTreeSet<RuleId>>,
) -> Report {
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
        left_out: loaded.left_out(),
        programs: programs_of(machine, loaded),
        not_recognised: Vec::new(),
        by_parts: None,
        new: Vec::new(),
        changed: Vec::new(),
        gone: Vec::new(),
    };
    let Some(before) = before else { return report };
    // What holds later is there twice: who reads this has not written that.
    let of_now = |program| decisions_of(program).into_iter().filter(|it| !it.later).collect();
    let (old, new): (BTreeSet<_>, BTreeSet<_>) =
        (of_now(&before.program), of_now(loaded.program()));
    let names = |ids: &mut dyn Iterator<Item = &&RuleId>| ids.map(ToString::to_string).collect();
    report.new = names(&mut new.difference(&old));
    report.gone = names(&mut old.difference(&new));
    // Whatever is not known to be the same begins to count anew.
    let stays = |id: &&RuleId| old.contains(*id) && changed.is_none_or(|it| it.contains(*id));
    report.changed = new.iter().filter(|id| stays(id)).map(ToString::to_string).collect();
    report
}

/// A program that rules name.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Program {
    /// The file that the rules name.
    pub path: String,
    /// What is there: `program`, `script`, `not-executable` or `missing`.
    pub file: say::AtPath,
}

fn programs_of(machine: &dyn Machine, loaded: &Loaded) -> Vec<Program> {
    let names = loaded.program().owner_lists().into_iter().flatten();
    let paths: BTreeSet<String> = names.filter(|it| is_program(it)).collect();
    let program = |path: String| {
        let file = super::programs::word(&machine.file_kind(&path));
        Program { path, file }
    };
    paths.into_iter().map(program).collect()
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
