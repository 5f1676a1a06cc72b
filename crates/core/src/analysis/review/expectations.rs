//! Expectations that do not hold.

use super::super::expect::failing;
use super::{Finding, Subject, Subjects, listed};
use crate::plan::RuleId;
use crate::policy::{Code, Severity};

/// Findings about all expectations of the host.
pub fn findings(subjects: &Subjects<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for failing in failing(subjects.plan, &subjects.host.expectations) {
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
        let message = format!(
            "expected {} for {direction} {} from {from}, but it is {is} for a part of it, by {}",
            expectation.verdict.as_str(),
            expectation.traffic_terms.join(", "),
            listed(&ids)
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
