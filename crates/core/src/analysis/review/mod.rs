//! Findings: what is probably not meant in a policy, each proven over all packets.

mod expectations;
mod explain;
mod exposure;
mod names;
mod order;
mod programs;
mod shell;
mod timing;
mod versions;

pub use explain::explain;
pub use shell::reachable;

use super::budget::Budget;
use super::lines::Lines;
use crate::meaning::Atlas;
use crate::plan::{Decision, HostPlan, Kind, RuleId};
use crate::policy::{Accepted, Code, Host, Origin, Policy, Rule, Severity, Time, Used};
use crate::space::{Direction, Packet};
use std::collections::HashMap;

/// What a finding is about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Subject {
    /// A rule.
    Rule(RuleId),
    /// The host as a whole.
    Host,
    /// An expectation.
    Expectation,
    /// A place, service or bundle, by the word for it and its name.
    Name(&'static str, String),
}

/// A change of the policy that would mend a finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Mend {
    /// A rule goes right before another one.
    Move {
        /// The rule.
        rule: RuleId,
        /// The other one.
        before: RuleId,
    },
    /// A rule goes.
    Remove(RuleId),
    /// A key of a rule gets another value; `None` is for the author to choose.
    Change {
        /// The rule.
        rule: RuleId,
        /// The key.
        key: &'static str,
        /// Its value.
        value: Option<String>,
    },
    /// A new rule that allows something; what is `None` is for the author to choose.
    Allow {
        /// Its name; a name makes it the first of all.
        name: Option<&'static str>,
        /// What it allows, as traffic terms.
        traffic: Vec<String>,
        /// From where.
        from: Option<String>,
    },
    /// A place, service or bundle goes.
    RemoveName(Used, String),
}

/// One thing that is probably not meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// Its kind.
    pub code: Code,
    /// How bad it is.
    pub severity: Severity,
    /// What it is about.
    pub subject: Subject,
    /// Other decisions that have to do with it.
    pub others: Vec<RuleId>,
    /// Where the subject is written.
    pub origin: Option<Origin>,
    /// One sentence.
    pub message: String,
    /// A packet that shows it.
    pub witness: Option<Packet>,
    /// What would mend it.
    pub mend: Option<Mend>,
    /// Why it is accepted, if it is.
    pub accepted: Option<String>,
}

impl Finding {
    /// A finding about a rule.
    fn about(code: Code, severity: Severity, decision: &Decision, message: String) -> Self {
        Self {
            code,
            severity,
            subject: Subject::Rule(decision.id.clone()),
            others: Vec::new(),
            origin: decision.origin.clone(),
            message,
            witness: None,
            mend: None,
            accepted: None,
        }
    }

    fn others(mut self, others: impl IntoIterator<Item = RuleId>) -> Self {
        self.others = others.into_iter().collect();
        self
    }

    fn witness(mut self, witness: Option<Packet>) -> Self {
        self.witness = witness;
        self
    }

    fn mend(mut self, mend: Mend) -> Self {
        self.mend = Some(mend);
        self
    }

    fn accepted_by(mut self, accepted: &[Accepted]) -> Self {
        let known = accepted.iter().find(|it| it.code == self.code);
        self.accepted = known.map(|it| it.reason.clone());
        self
    }
}

/// What is looked at.
struct Subjects<'p> {
    policy: &'p Policy,
    host: &'p Host,
    plan: &'p HostPlan,
    now: Time,
    /// The host's rules by their names.
    by_name: HashMap<&'p str, &'p Rule>,
    /// A packet of a direction that witnesses should resemble.
    likely: &'p dyn Fn(Direction) -> Packet,
}

impl<'p> Subjects<'p> {
    /// The written rules of one direction that are in force, with their places in the chain.
    fn rules(&self, direction: Direction) -> impl Iterator<Item = (usize, &'p Decision)> {
        let decisions = self.plan.chain(direction).decisions.iter().enumerate();
        decisions.filter(|(_, it)| it.id.kind == Kind::Rule && it.idle.is_none())
    }
}

/// The expectations that do not hold, as [`review`] gives them.
#[must_use]
pub fn review_expectations(
    policy: &Policy,
    plan: &HostPlan,
    now: Time,
    likely: &dyn Fn(Direction) -> Packet,
) -> Vec<Finding> {
    let Some(host) = policy.host(&plan.host) else { return Vec::new() };
    let subjects = Subjects { policy, host, plan, now, by_name: HashMap::new(), likely };
    let findings = expectations::findings(&subjects);
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
    let Some(host) = policy.host(&plan.host) else { return Vec::new() };
    let by_name = host.rules.iter().map(|rule| (rule.name.as_str(), rule)).collect();
    let subjects = Subjects { policy, host, plan, now, by_name, likely };
    let mut findings = Vec::new();
    for direction in Direction::ALL {
        let lines = Lines::of(plan.chain(direction));
        findings.extend(order::findings(&subjects, &lines));
        findings.extend(exposure::findings(&subjects, &lines));
        findings.extend(versions::findings(&subjects, &lines));
    }
    findings.extend(timing::findings(&subjects));
    findings.extend(programs::findings(&subjects));
    findings.extend(shell::findings(&subjects));
    findings.extend(expectations::findings(&subjects));
    let findings = findings.into_iter().map(|finding| accept(finding, &subjects));
    let mut findings: Vec<Finding> = findings.chain(names::findings(policy)).collect();
    let file_of = |finding: &Finding| {
        let origin = finding.origin.as_ref()?;
        policy.sources.iter().position(|source| source.name == origin.file)
    };
    findings.sort_by_key(|it| (file_of(it), it.origin.as_ref().map(|it| it.span.start), it.code));
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

/// Steps for one question about one rule.
fn budget() -> Budget {
    Budget::new(400_000)
}

/// Whether every packet fares alike without one of the rules: by the diagrams of everything, for
/// rules that are too entangled with others to be looked at by themselves.
fn idle_by_diagrams(plan: &HostPlan, direction: Direction, decision: usize) -> bool {
    let mut other = plan.clone();
    other.chains[direction as usize].decisions.remove(decision);
    let mut atlas = Atlas::new();
    let (whole, without) = (atlas.plan(plan), atlas.plan(&other));
    atlas.differences(&whole, &without, 1).is_empty()
}

/// Names as people list them: "`a`", "`a` and `b`", "`a`, `b` and 3 more".
fn listed(names: &[RuleId]) -> String {
    const SHOWN: usize = 3;
    let quoted = |id: &RuleId| format!("`{id}`");
    let most = if names.len() > SHOWN + 1 { SHOWN } else { names.len() };
    let mut words: Vec<String> = names[..most].iter().map(quoted).collect();
    if names.len() > most {
        words.push(format!("{} more", names.len() - most));
    }
    match words.split_last() {
        Some((last, [])) => last.clone(),
        Some((last, others)) => format!("{} and {last}", others.join(", ")),
        None => "nothing".into(),
    }
}
