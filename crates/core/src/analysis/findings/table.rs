//! The one table of findings.

use super::super::lines::Lines;
use super::facts::{Facts, Machine};
use super::finder::{Finder, FindingKind, Look, Scope};
use super::finding::{Finding, Subject};
use super::proven::keep_what_mends;
use super::subjects::Subjects;
use super::{
    crowded, expectations, exposure, interfaces, led_elsewhere, marks, names, no_listener, order,
    other_program, program_files, programs, published, session, shell, timing, unmentioned, unused,
    users, versions, wider_than_used,
};
use crate::hands::{AnyHands, OneByOne};
use crate::plan::HostPlan;
use crate::policy::{Code, Policy, Severity, Time};
use crate::space::{Direction, Packet};

/// Everything that finds anything, in the order in which it looks.
const FINDERS: [Finder; 21] = [
    order::FINDER,
    exposure::FINDER,
    versions::FINDER,
    timing::FINDER,
    programs::FINDER,
    shell::FINDER,
    expectations::FINDER,
    names::FINDER,
    no_listener::FINDER,
    unmentioned::FINDER,
    published::FINDER,
    led_elsewhere::FINDER,
    unused::FINDER,
    wider_than_used::FINDER,
    other_program::FINDER,
    program_files::FINDER,
    users::FINDER,
    marks::FINDER,
    interfaces::FINDER,
    crowded::FINDER,
    session::FINDER,
];

/// Every kind of finding, and whether the policy or the machine shows it.
pub fn kinds() -> impl Iterator<Item = (&'static FindingKind, Vec<Scope>)> {
    FINDERS.iter().flat_map(|finder| finder.kinds.iter().map(|it| (it, finder.scopes().collect())))
}

/// What a kind of finding means, why it matters, and what to do about it.
#[must_use]
pub fn explain(code: Code) -> &'static str {
    kinds().find(|it| it.0.code == code).map_or("", |it| it.0.meaning)
}

/// The expectations that do not hold, as [`review`] gives them.
#[must_use]
pub fn review_expectations(
    policy: &Policy,
    plan: &HostPlan,
    now: Time,
    likely: &dyn Fn(Direction) -> Packet,
) -> Vec<Finding> {
    let subjects = Subjects::of(policy, plan, now, likely, &OneByOne);
    let Some(subjects) = subjects else { return Vec::new() };
    let findings = found(&expectations::FINDER, &subjects);
    findings.into_iter().map(|finding| accept(finding, &subjects)).collect()
}

/// Everything that is probably not meant, in the order of the policy; what is accepted stands among
/// it. `likely` gives a packet of a direction that witnesses should resemble.
#[must_use]
pub fn review(
    policy: &Policy,
    plan: &HostPlan,
    now: Time,
    likely: &dyn Fn(Direction) -> Packet,
) -> Vec<Finding> {
    review_by(&OneByOne, policy, plan, now, likely)
}

/// Likewise, by some hands.
#[must_use]
pub fn review_by(
    hands: &dyn AnyHands,
    policy: &Policy,
    plan: &HostPlan,
    now: Time,
    likely: &dyn Fn(Direction) -> Packet,
) -> Vec<Finding> {
    let Some(subjects) = Subjects::of(policy, plan, now, likely, hands) else { return Vec::new() };
    let mut findings = found_by(&subjects, |_| true);
    keep_what_mends(&mut findings, &subjects, &FINDERS);
    in_order(findings, policy)
}

/// Of what [`review`] gives the errors. Only what can be one is looked for, and no changes that would mend it.
#[must_use]
pub fn review_errors(
    policy: &Policy,
    plan: &HostPlan,
    now: Time,
    likely: &dyn Fn(Direction) -> Packet,
) -> Vec<Finding> {
    let subjects = Subjects::of(policy, plan, now, likely, &OneByOne);
    let Some(subjects) = subjects else { return Vec::new() };
    let grave = |finder: &Finder| finder.kinds.iter().any(|it| it.severity == Severity::Error);
    let mut findings = found_by(&subjects, grave);
    findings.retain(|it| it.severity == Severity::Error);
    in_order(findings, policy)
}

/// What some of the finders find in a policy.
fn found_by(subjects: &Subjects<'_>, which: impl Fn(&Finder) -> bool) -> Vec<Finding> {
    let finders: Vec<&Finder> = FINDERS.iter().filter(|it| which(it)).collect();
    let of_rules = finders.iter().flat_map(|it| it.looks).filter_map(|look| match look {
        Look::Rules(look) => Some(look),
        Look::Policy(_) | Look::Machine(_) => None,
    });
    let of_rules: Vec<_> = of_rules.collect();
    let mut findings = Vec::new();
    for direction in Direction::ALL.into_iter().filter(|_| !of_rules.is_empty()) {
        let lines = Lines::of(subjects.plan.chain(direction));
        findings.extend(of_rules.iter().flat_map(|look| look(subjects, &lines)));
    }
    findings.extend(finders.iter().flat_map(|it| found(it, subjects)));
    findings.into_iter().map(|finding| accept(finding, subjects)).collect()
}

/// Findings in the order of the policy.
fn in_order(mut findings: Vec<Finding>, policy: &Policy) -> Vec<Finding> {
    let file_of = |finding: &Finding| {
        let origin = finding.origin.as_ref()?;
        policy.sources.iter().position(|source| source.name == origin.file)
    };
    findings.sort_by_key(|it| (file_of(it), it.origin.as_ref().map(|it| it.span.start), it.code));
    findings
}

/// What a finder finds in the policy as a whole.
fn found(finder: &Finder, subjects: &Subjects<'_>) -> Vec<Finding> {
    let looks = finder.looks.iter().filter_map(|look| match look {
        Look::Policy(look) => Some(look),
        Look::Rules(_) | Look::Machine(_) => None,
    });
    looks.flat_map(|look| look(subjects)).collect()
}

/// What does not go together with the machine that the policy is for.
#[must_use]
pub fn review_machine(policy: &Policy, plan: &HostPlan, facts: &Facts) -> Vec<Finding> {
    let Some(host) = policy.host(&plan.host) else { return Vec::new() };
    let machine = Machine { policy, host, plan, facts };
    let mut findings = Vec::new();
    for look in FINDERS.iter().flat_map(|it| it.looks) {
        if let Look::Machine(look) = look {
            findings.extend(look(&machine));
        }
    }
    for finding in &mut findings {
        let rule = match &finding.subject {
            Subject::Rule(id) => host.rules.iter().find(|rule| rule.name == id.name),
            _ => None,
        };
        let accepted = rule.map_or(&host.accepted, |it| &it.accepted);
        let accepted = accepted.iter().find(|it| it.code == finding.code);
        finding.accepted = accepted.map(|it| it.reason.clone());
    }
    findings
}

/// Notes the reason if the finding is accepted where its subject is written.
fn accept(finding: Finding, subjects: &Subjects<'_>) -> Finding {
    let host = subjects.host;
    match &finding.subject {
        Subject::Rule(id) => match subjects.by_name.get(id.name.as_str()) {
            Some(rule) => finding.accepted_by(&rule.accepted),
            None => finding,
        },
        Subject::Host => finding.accepted_by(&host.accepted),
        Subject::Expectation => {
            let expectation =
                host.expectations.iter().find(|it| Some(&it.origin) == finding.origin.as_ref());
            match expectation {
                Some(expectation) => finding.accepted_by(&expectation.accepted),
                None => finding,
            }
        }
        Subject::Name(..) => finding,
    }
}
