//! Rules that name programs.

use super::{Finding, Mend, Subject, Subjects};
use crate::plan::Kind;
use crate::policy::{Code, Severity};
use crate::space::Direction;

/// Findings about all rules.
pub fn findings(subjects: &Subjects<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut first = None;
    for (direction, decision) in subjects.plan.decisions() {
        let in_force = decision.id.kind == Kind::Rule && decision.idle.is_none();
        if !in_force || !decision.names_programs() {
            continue;
        }
        first = first.or(Some(decision));
        let has_sockets = decision
            .conditions
            .iter()
            .any(|it| !it.traffic.tcp.is_empty() || !it.traffic.udp.is_empty());
        if direction == Direction::Inbound && !has_sockets {
            let message = "names a program, but such traffic that comes in belongs to none";
            let finding = Finding::about(
                Code::ProgramNeverMatches,
                Severity::Warning,
                decision,
                message.into(),
            );
            findings.push(finding.mend(Mend::Change {
                rule: decision.id.clone(),
                key: "program",
                value: None,
            }));
        }
    }
    let replies = subjects.host.baseline.switches.iter().rev().find(|it| it.0 == "replies");
    if let (Some(decision), Some((_, false, origin))) = (first, replies) {
        findings.push(Finding {
            subject: Subject::Host,
            others: vec![decision.id.clone()],
            origin: Some(origin.clone()),
            ..Finding::about(
                Code::ProgramNeedsReplies,
                Severity::Error,
                decision,
                format!("`replies` is off, and `{}` names programs", decision.id),
            )
        });
    }
    findings
}
