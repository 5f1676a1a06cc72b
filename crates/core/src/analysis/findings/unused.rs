//! Rules that admitted nobody, as long as that is remembered.

use super::super::narrowing::lasting;
use super::facts::{Machine, Use};
use super::finder::{Finder, FindingKind, Look};
use super::finding::{Finding, Mend};
use crate::policy::{Code, Severity};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::UnusedRule,
        severity: Severity::Note,
        meaning: "With `record = \"all\"` the kernel remembers whom each rule admits. For at least a day, and \
             for as long as is said, this rule meant what it means now and has admitted nobody. What is \
             needed once a quarter looks unused, too; what nobody needs any more is better gone.",
    }],
    looks: &[Look::Machine(findings)],
};

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    let unused = machine.facts.uses.iter().filter(|it| it.is_telling() && it.by.is_empty());
    unused.filter_map(|it| of_rule(machine, it)).collect()
}

fn of_rule(machine: &Machine<'_>, used: &Use) -> Option<Finding> {
    let decision = machine.plan.find(&used.rule)?;
    let message = format!("has admitted nobody in the last {}", lasting(used.seconds));
    let finding = Finding::about(Code::UnusedRule, Severity::Note, decision, message);
    Some(finding.mend(Mend::Remove(used.rule.clone())))
}
