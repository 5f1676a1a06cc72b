//! No change is offered that makes it worse: after it there are fewer findings (of those that are wrong; a
//! note may come in their place), and nothing is open that was not.

use super::super::lines::Lines;
use super::finder::{Finder, Look};
use super::finding::{Finding, Mend};
use super::subjects::Subjects;
use crate::plan::{Chain, Decision, HostPlan, RuleId};
use crate::policy::{Code, Severity, Verdict};
use crate::space::Direction;

/// So many changes are tried in one review at most...
const MOST: usize = 12;
/// ... and no more than so many rules are looked at for that.
const RULES: usize = 6_000;

/// What such a rule takes fares the same without it, and so do all others.
const CHANGES_NOTHING: [Code; 4] =
    [Code::Shadowed, Code::Redundant, Code::SameAsDefault, Code::Expired];

/// Takes away the changes that do not hold what they promise, and those that could not be tried.
///
/// Taking out a rule that decides nothing, or that others below say again, changes no packet's fate, and so
/// needs no trial.
pub(super) fn keep_what_mends(
    findings: &mut [Finding],
    subjects: &Subjects<'_>,
    finders: &[Finder],
) {
    let rules = subjects.host.rules.len().max(1);
    let mut tries = MOST.min(RULES / rules);
    let mut before: [Option<Found>; 3] = [None; 3];
    for finding in findings {
        let doubtful = match &finding.mend {
            Some(Mend::Move { .. }) => true,
            Some(Mend::Remove(_)) => !CHANGES_NOTHING.contains(&finding.code),
            _ => false,
        };
        if !doubtful {
            continue;
        }
        let Some(mend) = finding.mend.take().filter(|_| tries > 0) else { continue };
        let Some((direction, after)) = mended(subjects.plan, finding.code, &mend) else { continue };
        tries -= 1;
        let count = |plan: &HostPlan| found(plan, direction, subjects, finders);
        let now = *before[direction as usize].get_or_insert_with(|| count(subjects.plan));
        if count(&after) < now {
            finding.mend = Some(mend);
        }
    }
}

/// The plan after a change, if that opens nothing. Only then is the plan copied: long lists have many changes
/// that are none.
fn mended(plan: &HostPlan, code: Code, mend: &Mend) -> Option<(Direction, HostPlan)> {
    let (Mend::Move { rule: id, .. } | Mend::Remove(id)) = mend else { return None };
    let found = |chain: &Chain| at(&chain.decisions, id);
    let (which, from) =
        plan.chains.iter().enumerate().find_map(|(which, it)| Some((which, found(it)?)))?;
    let chain = &plan.chains[which];
    let allows = chain.decisions[from].act.verdict() == Verdict::Allow;
    let to = match mend {
        // What allows opens something further up; what denies closes.
        Mend::Move { before, .. } if !allows => Some(at(&chain.decisions, before)?),
        Mend::Remove(_) if allows || code == Code::NeverHere => None,
        _ => return None,
    };
    let mut after = plan.clone();
    let decisions = &mut after.chains[which].decisions;
    let decision = decisions.remove(from);
    if let Some(to) = to {
        // What stood behind it has moved up by one.
        decisions.insert(to - usize::from(to > from), decision);
    }
    Some((chain.direction, after))
}

fn at(decisions: &[Decision], id: &RuleId) -> Option<usize> {
    decisions.iter().position(|it| it.id == *id)
}

/// How many errors and warnings, and how many notes.
type Found = (usize, usize);

/// How much is found in a plan: about one direction, and about the host as a whole.
fn found(
    plan: &HostPlan,
    direction: Direction,
    subjects: &Subjects<'_>,
    finders: &[Finder],
) -> Found {
    let by_name = subjects.by_name.clone();
    let subjects = Subjects { plan, by_name, ..*subjects };
    let lines = Lines::of(plan.chain(direction));
    let looks = finders.iter().flat_map(|it| it.looks);
    let found = looks.flat_map(|look| match look {
        Look::Rules(look) => look(&subjects, &lines),
        Look::Policy(look) => look(&subjects),
        Look::Machine(_) => Vec::new(),
    });
    found.fold((0, 0), |(wrong, notes), it| match it.severity {
        Severity::Note => (wrong, notes + 1),
        Severity::Warning | Severity::Error => (wrong + 1, notes),
    })
}
