//! Names that nothing uses.

use super::finder::{Finder, FindingKind, Look};
use super::finding::{Finding, Mend, Subject};
use super::subjects::Subjects;
use crate::policy::{Accepted, Code, Origin, Severity, Used};
use std::collections::HashSet;

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::UnusedName,
        severity: Severity::Note,
        meaning: "A place, service, bundle or label is defined and never used. Perhaps a rule that should use \
             it is missing.",
    }],
    looks: &[Look::Policy(findings)],
};

/// Findings about a policy as a whole.
fn findings(subjects: &Subjects<'_>) -> Vec<Finding> {
    let policy = subjects.policy;
    let used: HashSet<(Used, &str)> =
        policy.uses.iter().map(|it| (it.what, it.name.as_str())).collect();
    let mut findings = Vec::new();
    let mut look = |what: Used, name: &str, origin: &Origin, accepted: &[Accepted]| {
        if !used.contains(&(what, name)) {
            findings.push(unused(what, name, origin, accepted));
        }
    };
    for place in &policy.places {
        look(Used::Place, &place.name, &place.origin, &place.accepted);
    }
    for service in &policy.services {
        look(Used::Service, &service.name, &service.origin, &service.accepted);
    }
    for bundle in &policy.bundles {
        look(Used::Bundle, &bundle.name, &bundle.origin, &bundle.accepted);
    }
    for label in &policy.labels {
        look(Used::Label, &label.name, &label.origin, &label.accepted);
    }
    findings
}

fn unused(what: Used, name: &str, origin: &Origin, accepted: &[Accepted]) -> Finding {
    let finding = Finding {
        code: Code::UnusedName,
        severity: Severity::Note,
        subject: Subject::Name(what.as_str(), name.to_owned()),
        others: Vec::new(),
        origin: Some(origin.clone()),
        message: format!("nothing uses the {} `{name}`", what.as_str()),
        witness: None,
        mend: matches!(what, Used::Place | Used::Service)
            .then(|| Mend::RemoveName(what, name.to_owned())),
        accepted: None,
    };
    finding.accepted_by(accepted)
}
