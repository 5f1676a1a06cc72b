//! What is said of rules that stand in a wrong place, or say nothing.

use super::super::lines::Outcome;
use super::finding::{Finding, Mend, listed};
use super::rule::Rule;
use crate::plan::{Decision, Kind, RuleId};
use crate::policy::{Code, Severity, Verdict};
use crate::space::Packet;

/// What is said of a rule that never decides, but these do.
pub(super) fn shadowed(rule: &Rule<'_, '_>, deciders: &[&Decision]) -> Finding {
    let witness =
        rule.own.first().and_then(|line| line.piece.example(rule.likely, rule.direction()));
    let ids: Vec<RuleId> = deciders.iter().map(|it| it.id.clone()).collect();
    let opposed: Vec<&Decision> = deciders
        .iter()
        .copied()
        .filter(|it| Outcome(it.act).opposes(rule.outcome()) && it.id.kind == Kind::Rule)
        .collect();
    let name = &rule.decision.id;
    let verb = rule.decision.act.verdict().as_str();
    let opposite = match (opposed.is_empty(), rule.decision.act.verdict()) {
        (true, _) => "",
        (_, Verdict::Allow) => "; some of it is not allowed there",
        (_, _) => "; some of it is allowed there",
    };
    // The baseline always takes a little; it is named only where nothing else is to be.
    let written: Vec<RuleId> = ids.iter().filter(|id| id.kind == Kind::Rule).cloned().collect();
    let named = if written.is_empty() { &ids } else { &written };
    let together = if named.len() > 1 { " together" } else { "" };
    let message = match named.is_empty() {
        true => "never decides anything: there is no packet such as it names".to_owned(),
        false => format!(
            "never decides anything: all that it would {verb} is decided above by \
                 {}{together}{opposite}",
            listed(named)
        ),
    };
    let finding = Finding::about(Code::Shadowed, Severity::Warning, rule.decision, message)
        .others(named.iter().cloned())
        .witness(witness);
    match opposed.first() {
        Some(first) => finding.mend(Mend::Move { rule: name.clone(), before: first.id.clone() }),
        None => finding.mend(Mend::Remove(name.clone())),
    }
}

/// What is said of a rule without which nothing would change.
pub(super) fn idle(rule: &Rule<'_, '_>) -> Finding {
    let name = &rule.decision.id;
    let verb = rule.decision.act.verdict().as_str();
    let heirs = rule.heirs();
    let only_default =
        heirs.as_ref().is_some_and(|ids| ids.iter().all(|id| id.kind == Kind::Default));
    let witness = rule.effective().ok().flatten();
    let (code, severity, message) = if only_default {
        let message = format!("does what the default does anyway: {verb}");
        (Code::SameAsDefault, Severity::Note, message)
    } else {
        let by = heirs.as_ref().map_or_else(String::new, |ids| format!(", by {}", listed(ids)));
        let message = format!(
            "could go: without it, every packet would fare the same, since what it takes is \
                 decided alike below{by}"
        );
        (Code::Redundant, Severity::Warning, message)
    };
    Finding::about(code, severity, rule.decision, message)
        .others(heirs.unwrap_or_default())
        .witness(witness)
        .mend(Mend::Remove(name.clone()))
}

/// Earlier rules that decide the opposite for a part of what this one matches.
pub(super) fn overlap(rule: &Rule<'_, '_>) -> Option<Finding> {
    /// More are not looked for: these are enough to see what is going on.
    const MOST: usize = 12;
    let mut found: Vec<(&Decision, Packet)> = Vec::new();
    for line in rule.above() {
        let opposed = line.of.id.kind == Kind::Rule
            && Outcome(line.of.act).opposes(rule.outcome())
            && !found.iter().any(|it| it.0.id == line.of.id);
        if !opposed || found.len() == MOST {
            continue;
        }
        if !rule.is_exception(line.decision)
            && let Some(packet) = rule.overruled_by(line)
        {
            found.push((line.of, packet));
        }
    }
    let (_, witness) = found.first()?.clone();
    let ids: Vec<RuleId> = found.iter().map(|it| it.0.id.clone()).collect();
    let name = &rule.decision.id;
    // A list of those who may not comes first as a rule; what is to be kept out and gets in
    // all the same is another matter.
    let (severity, what) = match rule.decision.act.verdict() {
        Verdict::Allow => (Severity::Note, "not allowed"),
        Verdict::Deny | Verdict::Reject => (Severity::Warning, "allowed"),
    };
    let verb = rule.decision.act.verdict().as_str();
    let message = format!(
        "a part of what it would {verb} is {what} all the same: {} above it decides that part",
        listed(&ids)
    );
    let finding = Finding::about(Code::Overlap, severity, rule.decision, message);
    let first = ids.first()?.clone();
    let finding = finding.others(ids).witness(Some(witness));
    Some(if severity == Severity::Warning {
        finding.mend(Mend::Move { rule: name.clone(), before: first })
    } else {
        finding
    })
}
