//! Rules that have ended or soon will, and rates that do not do what they seem to.

use super::finder::{Finder, FindingKind, Look};
use super::finding::{Finding, Mend};
use super::subjects::Subjects;
use crate::plan::{Act, Decision, Idle, Kind};
use crate::policy::{Code, Rate, Severity};
use crate::space::{Direction, RangeSet};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[
        FindingKind {
            code: Code::Expired,
            severity: Severity::Warning,
            meaning: "The rule has ended by its `until` and does nothing, or it ends within a week (then \
             this is a note). Remove it, or give it another end.",
        },
        FindingKind {
            code: Code::OddRate,
            severity: Severity::Warning,
            meaning: "The rate does not do what it seems to: either its burst is larger than a whole day of \
             it, so that it hardly limits anything; or it counts everybody together and is open to \
             anywhere, so that one stranger can use it up for all. Count `per source` instead.",
        },
    ],
    looks: &[Look::Policy(findings)],
};

/// A week, in seconds: an end that is nearer than this is near.
const NEAR: i64 = 7 * 86_400;

/// Findings about all rules.
fn findings(subjects: &Subjects<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (direction, decision) in subjects.plan.decisions() {
        if decision.id.kind == Kind::Rule {
            findings.extend(ending(subjects, decision));
            findings.extend(rate(direction, decision));
        }
    }
    findings
}

fn ending(subjects: &Subjects<'_>, decision: &Decision) -> Option<Finding> {
    let name = &decision.id;
    if name.kind == Kind::Baseline {
        // Who is turned away for a time is nothing to mend.
        return None;
    }
    if let Some(Idle::Ended(time)) = decision.idle {
        let message = format!("has ended, at {time}, and does nothing any more");
        return Some(
            Finding::about(Code::Expired, Severity::Warning, decision, message)
                .mend(Mend::Remove(name.clone())),
        );
    }
    let until = decision.until().filter(|_| decision.idle.is_none())?;
    let left = until.seconds() - subjects.now.seconds();
    (left < NEAR).then(|| {
        let message = format!("ends soon, at {until}");
        Finding::about(Code::Expired, Severity::Note, decision, message).mend(Mend::Change {
            rule: name.clone(),
            key: "until",
            value: None,
        })
    })
}

/// A rate that contradicts itself: a burst that is worth a day and more makes the rate mean
/// nothing, and one bucket for everybody lets any stranger use up what others need.
fn rate(direction: Direction, decision: &Decision) -> Option<Finding> {
    let Act::AllowWithin(rate) = decision.act else { return None };
    let Rate { count, seconds, burst, per_source } = rate;
    let a_day = u64::from(count) * (86_400 / u64::from(seconds));
    let name = &decision.id;
    if u64::from(burst) > a_day {
        let message = format!(
            "allows {burst} at once, more than a whole day of its rate ({count} in {}) gives",
            if seconds == 1 { "a second".to_owned() } else { format!("{seconds} seconds") }
        );
        return Some(
            Finding::about(Code::OddRate, Severity::Warning, decision, message)
                .mend(Mend::Change { rule: name.clone(), key: "rate", value: None }),
        );
    }
    let from_anywhere = decision.conditions.iter().any(|condition| {
        condition.source.v4 == RangeSet::full() || condition.source.v6 == RangeSet::full()
    });
    (direction == Direction::Inbound && !per_source && from_anywhere).then(|| {
        let message = "counts everybody together and is open to anywhere: one stranger can use \
                       up the rate and shut all others out";
        Finding::about(Code::OddRate, Severity::Warning, decision, message.into()).mend(
            Mend::Change {
                rule: name.clone(),
                key: "rate",
                value: Some(Rate { per_source: true, ..rate }.to_string()),
            },
        )
    })
}
