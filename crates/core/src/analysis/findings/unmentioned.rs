//! Listeners for others that no rule mentions.

use super::facts::Listener;
use super::facts::Machine;
use super::finder::{Finder, FindingKind, Look};
use super::finding::Finding;
use super::finding::Mend;
use crate::policy::{Code, Severity};
use crate::space::Direction;
use std::collections::BTreeMap;

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::UnmentionedListener,
        severity: Severity::Warning,
        meaning: "A program listens for others at a port that no rule mentions, so the default decides. \
             Either it should be reachable and a rule is missing, or it should not be there.",
    }],
    looks: &[Look::Machine(findings)],
};

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    let decisions = &machine.plan.chain(Direction::Inbound).decisions;
    // A program that listens at a port over both IP versions is one.
    let mut ports: BTreeMap<(u16, &str), &Listener> = BTreeMap::new();
    let listeners = machine.facts.listeners.iter();
    for listener in listeners.filter(|it| it.for_others() && !it.is_mentioned(decisions)) {
        ports.entry((listener.port, listener.protocol.as_str())).or_insert(listener);
    }
    let default = decisions.last().map_or("deny", |it| it.act.verdict().as_str());
    let words = |((port, protocol), listener): (&(u16, &str), &&Listener)| {
        let program = listener.program.as_deref().unwrap_or("a program");
        let message = format!(
            "{program} listens at {port}/{protocol}, which no rule mentions; the default decides: \
             {default}"
        );
        let severity = if default == "allow" { Severity::Warning } else { Severity::Note };
        let traffic = vec![format!("{port}/{protocol}")];
        Finding::of_host(Code::UnmentionedListener, severity, message).mend(Mend::Allow {
            name: None,
            traffic,
            from: None,
        })
    };
    ports.iter().map(words).collect()
}
