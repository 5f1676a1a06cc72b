//! Expectations that do not hold.

use super::super::expect::failing;
use super::finder::{Finder, FindingKind, Look};
use super::finding::{Finding, Subject, listed};
use super::leaks::leaks;
use super::subjects::Subjects;
use crate::plan::RuleId;
use crate::policy::{Code, Severity};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::ExpectationFailed,
        severity: Severity::Error,
        meaning: "A statement under `expect` does not hold for every packet that it is about. It is \
             about first packets of connections, not over the loopback interface, to the host's \
             own addresses unless `to` says otherwise. What a limited rule allows counts as allowed.",
    }],
    looks: &[Look::Policy(findings)],
};

/// Findings about all expectations of the host.
fn findings(subjects: &Subjects<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for failing in failing(subjects.plan, subjects.host.expected()) {
        let expectation = failing.expectation;
        let direction = expectation.direction;
        let likely = (subjects.likely)(direction);
        let shares = failing.by.unwrap_or_default();
        let ids: Vec<RuleId> = shares.iter().map(|share| share.decision.id.clone()).collect();
        let piece = shares.first().and_then(|share| share.pieces.first());
        let witness = piece.and_then(|piece| piece.example(&likely, direction));
        let is = shares.first().map_or("not so", |share| share.decision.act.verdict().as_str());
        let from = match expectation.from_terms.join(", ") {
            from if from.is_empty() => "anywhere".to_owned(),
            from => from,
        };
        let to = match expectation.to_terms.join(", ") {
            to if to.is_empty() => String::new(),
            to => format!(" to {to}"),
        };
        let by_way = |word: &str, names: &[String]| match names {
            [] => String::new(),
            [one] if one.starts_with('!') => format!(" {word} not {}", &one[1..]),
            names => format!(" {word} {}", names.join(" or ")),
        };
        let mut way =
            by_way("in by", &expectation.ingress) + &by_way("out by", &expectation.egress);
        if !expectation.published_terms.is_empty() {
            way.push_str(&format!(" published at {}", expectation.published_terms.join(", ")));
        }
        let message = format!(
            "expected {} for {direction} {} from {from}{to}{way}, but it is {is} for a part of it, by {}{}",
            expectation.verdict.as_str(),
            expectation.traffic_terms.join(", "),
            listed(&ids),
            leaks(expectation, &shares)
        );
        findings.push(Finding {
            code: Code::ExpectationFailed,
            severity: Severity::Error,
            subject: Subject::Expectation,
            others: ids,
            origin: Some(expectation.origin.clone()),
            message,
            witness,
            mend: None,
            accepted: None,
        });
    }
    findings
}
