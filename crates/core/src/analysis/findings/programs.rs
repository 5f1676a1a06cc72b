//! Rules that name programs.

use super::finder::{Finder, FindingKind, Look};
use super::finding::{Finding, Mend, Subject};
use super::subjects::Subjects;
use crate::plan::Kind;
use crate::policy::{Code, Severity};
use crate::space::Direction;

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[
        FindingKind {
            code: Code::ProgramNeverMatches,
            severity: Severity::Warning,
            meaning: "What comes in belongs to a program or user only if a TCP or UDP socket of theirs waits for it. A \
             rule that names one and is about other traffic, such as ICMP or SCTP, never matches \
             anything that comes in: leave `program` or `user` out.",
        },
        FindingKind {
            code: Code::ProgramNeedsReplies,
            severity: Severity::Error,
            meaning: "The packet that ends a TCP handshake, and those of a connection that has just been \
             closed, belong to no socket. With the baseline's `replies` they pass as parts of their \
             connection; without it, no rule for a program or user could let a connection come about.",
        },
    ],
    looks: &[Look::Policy(findings)],
};

/// Findings about all rules.
fn findings(subjects: &Subjects<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut first = None;
    for (direction, decision) in subjects.plan.decisions() {
        let in_force = decision.id.kind == Kind::Rule && decision.idle.is_none();
        if !in_force || !decision.names_owners() {
            continue;
        }
        first = first.or(Some(decision));
        let has_sockets = decision.conditions.iter().any(|it| {
            it.traffic
                .ports
                .iter()
                .any(|(protocol, ports)| protocol.has_known_receivers() && !ports.is_empty())
        });
        if direction == Direction::Inbound && !has_sockets {
            let by_program = decision.conditions.iter().any(|it| !it.programs.is_empty());
            let key = if by_program { "program" } else { "user" };
            let message = format!("names a {key}, but such traffic that comes in belongs to none");
            let finding =
                Finding::about(Code::ProgramNeverMatches, Severity::Warning, decision, message);
            findings.push(finding.mend(Mend::Change {
                rule: decision.id.clone(),
                key,
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
                format!("`replies` is off, and `{}` asks whose sockets are", decision.id),
            )
        });
    }
    findings
}
