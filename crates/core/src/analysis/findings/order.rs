//! What the order of rules makes of them: shadowed, redundant, same as the default, overlapping.
//!
//! The terms are those of E. Al-Shaer and H. Hamed, "Discovery of Policy Anomalies in Distributed
//! Firewalls", 2004 (shadowing, redundancy, correlation, generalisation), and of M. Gouda and
//! A. Liu, "Complete Redundancy Detection", 2005: a rule counts as shadowed or redundant also when
//! only several others together make it so. A deliberate exception above a wider rule, there
//! called generalisation, is no mistake and is not reported.

use super::super::budget::Spent;
use super::super::deciding::Deciding;
use super::super::lines::{Line, Lines, Outcome};
use super::finder::{Finder, Look};
use super::finding::{Finding, Mend, listed};
use super::order_kinds::KINDS;
use super::rule::Rule;
use super::subjects::Subjects;
use super::wide::doubt_the_wide;
use crate::meaning::Atlas;
use crate::plan::{Decision, Kind, RuleId};
use crate::policy::{Code, Severity, Verdict};
use crate::space::{Packet, Piece};
use std::collections::{HashMap, HashSet};
use std::rc::Rc;

/// What is found here.
pub(crate) const FINDER: Finder = Finder { kinds: &KINDS, looks: &[Look::Rules(findings)] };

/// Findings about the rules of one direction.
fn findings(subjects: &Subjects<'_>, lines: &Lines<'_>) -> Vec<Finding> {
    let likely = (subjects.likely)(lines.direction);
    let mut findings = Vec::new();
    // What never decides matters to none below, so that much less is to be looked at.
    let mut deciding = Deciding::none();
    let mut seen = 0;
    let mut taken: HashMap<usize, usize> = HashMap::new();
    let mut undone = Vec::new();
    let mut deciders = Deciders::default();
    for (at, decision) in subjects.rules(lines.direction) {
        let own = lines.of_decision(at);
        let from = lines.list.partition_point(|line| line.decision < at);
        deciding.add(&lines.list[seen..from]);
        seen = from + own.len();
        let rule = Rule::among(lines, (at, decision), &likely, |piece| deciding.meeting(piece));
        let by_one = rule.taken_by();
        taken.extend(by_one.map(|by| (at, by)));
        match by_one.map_or_else(|| rule.effective(), |_| Ok(None)) {
            Ok(None) => {
                findings.push((at, shadowed(&rule, &deciders.of(&rule, by_one.is_some()))));
                continue;
            }
            Ok(Some(packet)) => {
                let overlap = overlap(&rule);
                if rule.can_be_idle() && !rule.differs_below(&packet) {
                    undone.push(((at, decision), overlap, false));
                } else {
                    findings.extend(overlap.map(|it| (at, it)));
                }
            }
            Err(Spent) if rule.can_be_idle() && idle_by_diagrams(subjects, lines, at) => {
                undone.push(((at, decision), None, true));
            }
            Err(Spent) => findings.extend(overlap(&rule).map(|it| (at, it))),
        }
        deciding.add(own);
    }
    for (rule, overlap, by_diagrams) in undone {
        let at = rule.0;
        // What one rule takes whole decides nothing without this one either, unless this is the one.
        let counts = |line: &&Line<'_>| {
            line.decision != at && taken.get(&line.decision).is_none_or(|&by| by == at)
        };
        let rule = Rule::among(lines, rule, &likely, |piece| lines.meeting(piece).filter(counts));
        let idle = by_diagrams
            || rule.is_idle().unwrap_or_else(|Spent| idle_by_diagrams(subjects, lines, at));
        // A denial that is overruled in part has its place to be mended first: only there does
        // it do more than the default.
        let overruled = overlap.as_ref().is_some_and(|it| it.severity == Severity::Warning);
        let idle = idle.then(|| self::idle(&rule));
        let idle = idle.filter(|it| it.code == Code::Redundant || !overruled);
        findings.extend(idle.into_iter().chain(overlap).map(|it| (at, it)));
    }
    findings.sort_by_key(|it| it.0);
    doubt_the_wide(findings.into_iter().map(|it| it.1).collect(), lines)
}

/// Who decides what rules would that never do, of which people write the same again and again.
#[derive(Default)]
struct Deciders<'l, 'p>(HashMap<Vec<&'l Piece>, Rc<[&'p Decision]>>);

impl<'l, 'p> Deciders<'l, 'p> {
    /// Who decides what the rule would; with `by_one` one of them alone matches all of it.
    fn of(&mut self, rule: &Rule<'l, 'p>, by_one: bool) -> Rc<[&'p Decision]> {
        let found = || {
            let mut known = HashSet::new();
            let deciders = rule.deciders().into_iter().map(|line| line.of);
            deciders.filter(|it| known.insert(&it.id)).collect()
        };
        // Then none below that one matters, and so it is the same for all that match the same.
        if by_one && rule.above().len() > FEW {
            let own = rule.own.iter().map(|line| &line.piece).collect();
            self.0.entry(own).or_insert_with(found).clone()
        } else {
            found()
        }
    }
}

/// To find out again who decides is cheaper than to remember it where no more could.
const FEW: usize = 32;

/// What is said of a rule that never decides, but these do.
fn shadowed(rule: &Rule<'_, '_>, deciders: &[&Decision]) -> Finding {
    let witness =
        rule.own.first().and_then(|line| line.piece.example(rule.likely, rule.direction()));
    let ids: Vec<RuleId> = deciders.iter().map(|it| it.id.clone()).collect();
    let opposed: Vec<&Decision> = deciders
        .iter()
        .copied()
        .filter(|it| Outcome(it.act).opposes(rule.outcome()) && it.id.kind == Kind::Rule)
        .collect();
    let name = &rule.decision.id;
    let verb = rule.decision.act.verdict().as_str();
    let opposite = match (opposed.is_empty(), rule.decision.act.verdict()) {
        (true, _) => "",
        (_, Verdict::Allow) => "; some of it is not allowed there",
        (_, _) => "; some of it is allowed there",
    };
    // The baseline always takes a little; it is named only where nothing else is to be.
    let written: Vec<RuleId> = ids.iter().filter(|id| id.kind == Kind::Rule).cloned().collect();
    let named = if written.is_empty() { &ids } else { &written };
    let together = if named.len() > 1 { " together" } else { "" };
    let message = match named.is_empty() {
        true => "never decides anything: there is no packet such as it names".to_owned(),
        false => format!(
            "never decides anything: all that it would {verb} is decided above by \
                 {}{together}{opposite}",
            listed(named)
        ),
    };
    let finding = Finding::about(Code::Shadowed, Severity::Warning, rule.decision, message)
        .others(named.iter().cloned())
        .witness(witness);
    match opposed.first() {
        Some(first) => finding.mend(Mend::Move { rule: name.clone(), before: first.id.clone() }),
        None => finding.mend(Mend::Remove(name.clone())),
    }
}

/// What is said of a rule without which nothing would change.
fn idle(rule: &Rule<'_, '_>) -> Finding {
    let name = &rule.decision.id;
    let verb = rule.decision.act.verdict().as_str();
    let heirs = rule.heirs();
    let only_default =
        heirs.as_ref().is_some_and(|ids| ids.iter().all(|id| id.kind == Kind::Default));
    let witness = rule.effective().ok().flatten();
    let (code, severity, message) = if only_default {
        let message = format!("does what the default does anyway: {verb}");
        (Code::SameAsDefault, Severity::Note, message)
    } else {
        let by = heirs.as_ref().map_or_else(String::new, |ids| format!(", by {}", listed(ids)));
        let message = format!(
            "could go: without it, every packet would fare the same, since what it takes is \
                 decided alike below{by}"
        );
        (Code::Redundant, Severity::Warning, message)
    };
    Finding::about(code, severity, rule.decision, message)
        .others(heirs.unwrap_or_default())
        .witness(witness)
        .mend(Mend::Remove(name.clone()))
}

/// Earlier rules that decide the opposite for a part of what this one matches.
fn overlap(rule: &Rule<'_, '_>) -> Option<Finding> {
    /// More are not looked for: these are enough to see what is going on.
    const MOST: usize = 12;
    let mut found: Vec<(&Decision, Packet)> = Vec::new();
    for line in rule.above() {
        let opposed = line.of.id.kind == Kind::Rule
            && Outcome(line.of.act).opposes(rule.outcome())
            && !found.iter().any(|it| it.0.id == line.of.id);
        if !opposed || found.len() == MOST {
            continue;
        }
        if !rule.is_exception(line.decision)
            && let Some(packet) = rule.overruled_by(line)
        {
            found.push((line.of, packet));
        }
    }
    let (_, witness) = found.first()?.clone();
    let ids: Vec<RuleId> = found.iter().map(|it| it.0.id.clone()).collect();
    let name = &rule.decision.id;
    // A list of those who may not comes first as a rule; what is to be kept out and gets in
    // all the same is another matter.
    let (severity, what) = match rule.decision.act.verdict() {
        Verdict::Allow => (Severity::Note, "not allowed"),
        Verdict::Deny | Verdict::Reject => (Severity::Warning, "allowed"),
    };
    let verb = rule.decision.act.verdict().as_str();
    let message = format!(
        "a part of what it would {verb} is {what} all the same: {} above it decides that part",
        listed(&ids)
    );
    let finding = Finding::about(Code::Overlap, severity, rule.decision, message);
    let first = ids.first()?.clone();
    let finding = finding.others(ids).witness(Some(witness));
    Some(if severity == Severity::Warning {
        finding.mend(Mend::Move { rule: name.clone(), before: first })
    } else {
        finding
    })
}

/// Whether every packet fares alike without one of the rules: by the diagrams of everything, for
/// rules that are too entangled with others to be looked at by themselves.
fn idle_by_diagrams(subjects: &Subjects<'_>, lines: &Lines<'_>, decision: usize) -> bool {
    let mut other = subjects.plan.clone();
    other.chains[lines.direction as usize].decisions.remove(decision);
    let mut atlas = Atlas::new();
    let (whole, without) = (atlas.plan(subjects.plan), atlas.plan(&other));
    atlas.differences(&whole, &without, 1).is_empty()
}
