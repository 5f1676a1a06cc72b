//! What the order of rules makes of them: shadowed, redundant, same as the default, overlapping.
//!
//! The terms are those of E. Al-Shaer and H. Hamed, "Discovery of Policy Anomalies in Distributed
//! Firewalls", 2004 (shadowing, redundancy, correlation, generalisation), and of M. Gouda and
//! A. Liu, "Complete Redundancy Detection", 2005: a rule counts as shadowed or redundant also when
//! only several others together make it so. A deliberate exception above a wider rule, there
//! called generalisation, is no mistake and is not reported.

use super::super::budget::Spent;
use super::super::deciding::Deciding;
use super::super::hull::Hull;
use super::super::lines::{Line, Lines};
use super::finder::{Finder, Look};
use super::finding::Finding;
use super::order_kinds::KINDS;
use super::order_said::{self as said, overlap, shadowed};
use super::rule::Rule;
use super::subjects::Subjects;
use super::wide::doubt_the_wide;
use crate::hands::{Turn, in_turns};
use crate::meaning::Atlas;
use crate::plan::{Decision, HostPlan};
use crate::policy::{Code, Severity};
use crate::space::{Packet, Piece};
use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, PoisonError};

/// What is found here.
pub(crate) const FINDER: Finder = Finder { kinds: &KINDS, looks: &[Look::Rules(findings)] };

/// A list of fewer rules is looked at rule by rule.
const LONG: usize = 1_024;
/// So many rules are looked at at a time: which of them never decide is not known to those below them.
const AT_A_TIME: usize = 128;

/// What is found of a rule by what stands above it.
struct Stands<'p> {
    rule: (usize, &'p Decision),
    /// The decision that alone matches all that it does.
    taken_by: Option<usize>,
    /// Whether it ever decides.
    decides: bool,
    found: Option<Finding>,
    /// Whether it is still to be found out if it could go, and if so, whether the diagrams of everything say that it
    /// could.
    undone: Option<bool>,
}

/// Findings about the rules of one direction.
fn findings(subjects: &Subjects<'_>, lines: &Lines<'_>) -> Vec<Finding> {
    let likely = (subjects.likely)(lines.direction);
    let of_direction =
        OfDirection { plan: subjects.plan, lines, likely: &likely, deciders: Deciders::default() };
    let rules: Vec<(usize, &Decision)> = subjects.rules(lines.direction).collect();
    let at_a_time = if rules.len() < LONG { 1 } else { AT_A_TIME };
    // What never decides matters to none below, so that much less is to be looked at.
    let mut deciding = Deciding::none();
    let mut seen = 0;
    let mut findings = Vec::new();
    let mut taken: HashMap<usize, usize> = HashMap::new();
    let mut undone = Vec::new();
    for some in rules.chunks(at_a_time) {
        let first = lines.list.partition_point(|line| line.decision < some[0].0);
        deciding.add(&lines.list[seen..first]);
        seen = first;
        let look = |turn: Turn<'_>| {
            turn.map(|at| of_direction.stands(some[at], (&deciding, first))).collect::<Vec<_>>()
        };
        let mut found: Vec<Stands<'_>> =
            in_turns(subjects.hands, some.len(), &look).into_iter().flatten().collect();
        found.sort_unstable_by_key(|it| it.rule.0);
        for Stands { rule, taken_by, decides, found, undone: left } in found {
            let from = lines.list.partition_point(|line| line.decision < rule.0);
            let own = lines.of_decision(rule.0);
            deciding.add(&lines.list[seen..from]);
            seen = from + own.len();
            if decides {
                deciding.add(own);
            }
            taken.extend(taken_by.map(|by| (rule.0, by)));
            match left {
                Some(by_diagrams) => undone.push((rule, found, by_diagrams)),
                None => findings.extend(found.map(|it| (rule.0, it))),
            }
        }
    }
    let look = |turn: Turn<'_>| {
        turn.flat_map(|at| of_direction.could_go(&undone[at], &taken)).collect::<Vec<_>>()
    };
    findings.extend(in_turns(subjects.hands, undone.len(), &look).into_iter().flatten());
    findings.sort_by_key(|it| it.0);
    doubt_the_wide(findings.into_iter().map(|it| it.1).collect(), lines)
}

/// The rules of one direction, among each other.
struct OfDirection<'l, 'p> {
    plan: &'p HostPlan,
    lines: &'l Lines<'p>,
    likely: &'l Packet,
    deciders: Deciders<'l, 'p>,
}

impl<'l, 'p> OfDirection<'l, 'p> {
    /// How a rule stands to what is above it: what decides there, and all from a line on.
    fn stands(
        &self,
        (at, decision): (usize, &'p Decision),
        (deciding, first): (&Deciding<'l, 'p>, usize),
    ) -> Stands<'p> {
        let lines = self.lines;
        let from = lines.list.partition_point(|line| line.decision < at);
        let among = &lines.list[first..from];
        let meeting = |piece: &Piece| {
            let hull = Hull::of(piece);
            let among = among.iter().filter(move |line| line.what().1.meets(&hull));
            deciding.meeting(piece).chain(among)
        };
        let rule = Rule::among(lines, (at, decision), self.likely, meeting);
        let taken_by = rule.taken_by();
        let stands = |decides, found, undone| Stands {
            rule: (at, decision),
            taken_by,
            decides,
            found,
            undone,
        };
        match taken_by.map_or_else(|| rule.effective(), |_| Ok(None)) {
            Ok(None) => {
                let found = shadowed(&rule, &self.deciders.of(&rule, taken_by.is_some()));
                stands(false, Some(found), None)
            }
            Ok(Some(packet)) => {
                let could_go = rule.can_be_idle() && !rule.differs_below(&packet);
                stands(true, overlap(&rule), could_go.then_some(false))
            }
            Err(Spent) if rule.can_be_idle() && self.idle_by_diagrams(at) => {
                stands(true, None, Some(true))
            }
            Err(Spent) => stands(true, overlap(&rule), None),
        }
    }

    /// What is said of a rule that may be one without which nothing would change.
    fn could_go(
        &self,
        (rule, overlap, by_diagrams): &((usize, &'p Decision), Option<Finding>, bool),
        taken: &HashMap<usize, usize>,
    ) -> Vec<(usize, Finding)> {
        let at = rule.0;
        // What one rule takes whole decides nothing without this one either, unless this is the one.
        let counts = |line: &&Line<'_>| {
            line.decision != at && taken.get(&line.decision).is_none_or(|&by| by == at)
        };
        let meeting = |piece: &Piece| self.lines.meeting(piece).filter(counts);
        let rule = Rule::among(self.lines, *rule, self.likely, meeting);
        let idle = *by_diagrams || rule.is_idle().unwrap_or_else(|Spent| self.idle_by_diagrams(at));
        // A denial that is overruled in part has its place to be mended first: only there does
        // it do more than the default.
        let overruled = overlap.as_ref().is_some_and(|it| it.severity == Severity::Warning);
        let idle = idle.then(|| said::idle(&rule));
        let idle = idle.filter(|it| it.code == Code::Redundant || !overruled);
        idle.into_iter().chain(overlap.clone()).map(|it| (at, it)).collect()
    }

    /// Whether every packet fares alike without one of the rules: by the diagrams of everything, for
    /// rules that are too entangled with others to be looked at by themselves.
    fn idle_by_diagrams(&self, decision: usize) -> bool {
        let mut other = self.plan.clone();
        other.chains[self.lines.direction as usize].decisions.remove(decision);
        let mut atlas = Atlas::new();
        let (whole, without) = (atlas.plan(self.plan), atlas.plan(&other));
        atlas.differences(&whole, &without, 1).is_empty()
    }
}

/// Who decides what is matched by pieces, in their order.
type Known<'l, 'p> = HashMap<Vec<&'l Piece>, Arc<[&'p Decision]>>;

/// Who decides what rules would that never do, of which people write the same again and again.
#[derive(Default)]
struct Deciders<'l, 'p>(Mutex<Known<'l, 'p>>);

impl<'l, 'p> Deciders<'l, 'p> {
    /// Who decides what the rule would; with `by_one` one of them alone matches all of it.
    fn of(&self, rule: &Rule<'l, 'p>, by_one: bool) -> Arc<[&'p Decision]> {
        let found = || {
            let mut known = HashSet::new();
            let deciders = rule.deciders().into_iter().map(|line| line.of);
            deciders.filter(|it| known.insert(&it.id)).collect()
        };
        // Then none below that one matters, and so it is the same for all that match the same.
        if !by_one || rule.above().len() <= FEW {
            return found();
        }
        let own: Vec<&Piece> = rule.own.iter().map(|line| &line.piece).collect();
        let all = || self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = all().get(&own) {
            return Arc::clone(known);
        }
        let found = found();
        Arc::clone(all().entry(own).or_insert(found))
    }
}

/// To find out again who decides is cheaper than to remember it where no more could.
const FEW: usize = 32;
