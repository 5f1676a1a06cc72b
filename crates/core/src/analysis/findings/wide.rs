//! A wide rule above narrow ones that say the same: which of them is the mistake.

use super::super::lines::{Line, Lines};
use super::finding::{Finding, Mend, Subject, listed};
use crate::plan::{Act, RuleId};
use crate::policy::{Code, Severity, Verdict};
use crate::space::without;
use std::collections::{BTreeMap, HashMap, HashSet};

/// So many narrow rules below a wide one are no accident.
const SEVERAL: usize = 2;

/// Where one rule that allows takes all from several narrower ones that allow too, it is doubted itself, and
/// not they.
pub(super) fn doubt_the_wide(findings: Vec<Finding>, lines: &Lines<'_>) -> Vec<Finding> {
    let mut taken: BTreeMap<usize, Vec<RuleId>> = BTreeMap::new();
    let places = lines.places();
    for finding in &findings {
        if let Some((wide, narrow)) = taken_by_one(finding, lines, &places) {
            taken.entry(wide).or_default().push(narrow);
        }
    }
    taken.retain(|_, narrow| narrow.len() >= SEVERAL);
    if taken.is_empty() {
        return findings;
    }
    let narrow: HashSet<&RuleId> = taken.values().flatten().collect();
    let spared = |finding: &Finding| match &finding.subject {
        Subject::Rule(id) => finding.code == Code::Shadowed && narrow.contains(id),
        _ => false,
    };
    let mut kept: Vec<Finding> = findings.into_iter().filter(|it| !spared(it)).collect();
    for (wide, narrow) in &taken {
        let Some(line) = lines.of_decision(*wide).first() else { continue };
        let message = format!(
            "allows all that narrower rules below it allow: because of it, {} {} nothing",
            listed(narrow),
            if narrow.len() == 1 { "decides" } else { "decide" }
        );
        kept.push(
            Finding::about(Code::WideRuleAbove, Severity::Warning, line.of, message)
                .others(narrow.iter().cloned())
                .mend(Mend::Remove(line.of.id.clone())),
        );
    }
    kept
}

/// The place of the one rule that takes all from the rule of a finding, if it is wider and says the same.
fn taken_by_one(
    finding: &Finding,
    lines: &Lines<'_>,
    places: &HashMap<&RuleId, usize>,
) -> Option<(usize, RuleId)> {
    let (Code::Shadowed, Subject::Rule(narrow), [wide]) =
        (finding.code, &finding.subject, &finding.others[..])
    else {
        return None;
    };
    let of = |id: &RuleId| places.get(id).map(|&at| (at, lines.of_decision(at)));
    let ((at, above), (_, below)) = (of(wide)?, of(narrow)?);
    let allows =
        |own: &[Line<'_>]| own.first().is_some_and(|it| it.of.act == Act::Decide(Verdict::Allow));
    if !allows(above) || !allows(below) {
        return None;
    }
    let wider = match below {
        [only] => !above.iter().all(|it| it.piece.is_within(&only.piece)),
        below => {
            let all = above.iter().map(|it| it.piece.clone()).collect();
            !below.iter().fold(all, |left, line| without(left, &line.piece)).is_empty()
        }
    };
    wider.then(|| (at, narrow.clone()))
}
