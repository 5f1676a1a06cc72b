//! Listeners where a rule lets others reach a program that is not theirs.

use super::facts::Listener;
use super::facts::Machine;
use super::finder::{Finder, FindingKind, Look};
use super::finding::Finding;
use crate::plan::{Decision, Kind};
use crate::policy::{Code, Severity, Verdict};
use crate::space::Direction;
use std::collections::{BTreeMap, BTreeSet};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::OtherProgram,
        severity: Severity::Warning,
        meaning: "A rule lets others reach a certain program at a port, and another program listens \
             there: what comes in meets some other rule or the default. Either the service has \
             moved to another file, or something has taken its place.",
    }],
    looks: &[Look::Machine(findings)],
};

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    let decisions = &machine.plan.chain(Direction::Inbound).decisions;
    let about = decisions.iter().filter(|it| {
        it.act.verdict() == Verdict::Allow
            && it.idle.is_none()
            && it.id.kind == Kind::Rule
            && it.names_owners()
    });
    about.flat_map(|it| of_rule(machine, it)).collect()
}

fn of_rule(machine: &Machine<'_>, decision: &Decision) -> Vec<Finding> {
    let hears = |listener: &&Listener| {
        decision.conditions.iter().any(|it| !it.traffic.is_any() && listener.hears(&it.traffic))
    };
    let named: Vec<&String> = decision.conditions.iter().flat_map(|it| &it.programs).collect();
    let mut others: BTreeMap<(u32, &str), BTreeSet<String>> = BTreeMap::new();
    let listeners = machine.facts.listeners.iter();
    for listener in listeners.filter(|it| it.for_others()).filter(hears) {
        let known = listener.known.as_ref().filter(|it| !named.is_empty() && !named.contains(it));
        let Some(program) = known else { continue };
        let port = format!("{}/{}", listener.port, listener.protocol);
        others.entry((listener.pid.unwrap_or(0), program)).or_default().insert(port);
    }
    let wanted: Vec<&str> = named.iter().map(|it| it.as_str()).collect();
    let words = |((pid, program), ports): ((u32, &str), BTreeSet<String>)| {
        let ports: Vec<String> = ports.into_iter().collect();
        let message = format!(
            "is for {}, but {program} (process {pid}) listens at {}",
            wanted.join(" or "),
            ports.join(", ")
        );
        Finding::about(Code::OtherProgram, Severity::Warning, decision, message)
    };
    others.into_iter().map(words).collect()
}
