//! Which packets two plans treat differently.

use super::budget::{Budget, Spent};
use super::index::Hulls;
use super::lines::{Line, Lines, find};
use super::parts::Parts;
use super::question::STEPS;
use crate::meaning::Atlas;
use crate::plan::{Act, HostPlan, Kind, RuleId};
use crate::space::{Direction, Packet, Piece, join};
use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};

/// What one of two plans does with some packets.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Side {
    /// The decision that takes them.
    pub by: RuleId,
    /// What it does to them.
    pub act: Act,
}

/// Packets that two plans treat differently, all in the same way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// Which way those packets go.
    pub direction: Direction,
    /// What the first plan does with them.
    pub before: Side,
    /// What the second does.
    pub after: Side,
    /// The packets, as disjoint pieces; empty if they are too many to be listed.
    pub pieces: Vec<Piece>,
    /// Whether these are the packets that no rule of either plan decides.
    pub rest: bool,
    /// A packet for which it is so.
    pub witness: Option<Packet>,
}

/// How two plans differ.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Comparison {
    /// All differences; none exactly when every packet fares alike.
    pub changes: Vec<Change>,
}

/// The packets that fare differently by two plans, by the decisions that say so. Names and what is
/// reported do not matter, nor does which of two like rules decides.
#[must_use]
pub fn compare(
    before: &HostPlan,
    after: &HostPlan,
    likely: impl Fn(Direction) -> Packet,
) -> Comparison {
    let by_lines = all_lines(before, after, &likely, Same::Acts);
    let changes =
        by_lines.map_or_else(|Spent| by_diagrams(before, after, &likely), |found| found.changes);
    Comparison { changes }
}

/// How two plans differ, and which decisions notice.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Noticed {
    /// All differences, as [`compare`] gives them.
    pub changes: Vec<Change>,
    /// The decisions that take other packets by the second plan, or do something else with them. What a default takes
    /// is what rules leave to it, so it notices only if it does something else.
    pub decisions: BTreeSet<RuleId>,
}

/// The packets that fare differently by two plans, and the decisions that take others than before; `None` if the plans
/// differ in too much to be told line by line.
#[must_use]
pub fn compare_decisions(
    before: &HostPlan,
    after: &HostPlan,
    likely: impl Fn(Direction) -> Packet,
) -> Option<Noticed> {
    all_lines(before, after, &likely, Same::Decisions).ok()
}

/// With more changed lines than these, diagrams of everything are worked out in the time of fewer steps.
const MANY: usize = 8_000;

/// When lines of two lists are alike.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Same {
    /// If they do the same with the same packets.
    Acts,
    /// If they do so by the same decision.
    Decisions,
}

fn all_lines(
    before: &HostPlan,
    after: &HostPlan,
    likely: &dyn Fn(Direction) -> Packet,
    same: Same,
) -> Result<Noticed, Spent> {
    let mut all = Noticed::default();
    for direction in Direction::ALL {
        let (old, new) = (Lines::of(before.chain(direction)), Lines::of(after.chain(direction)));
        let found = compare_lines(&old, &new, &likely(direction), same)?;
        all.changes.extend(found.changes);
        all.decisions.extend(found.decisions);
    }
    Ok(all)
}

fn fares_alike(a: Act, b: Act) -> bool {
    a == b
}

fn side(line: &Line<'_>) -> Side {
    Side { by: line.of.id.clone(), act: line.of.act }
}

fn compare_lines(
    old: &Lines<'_>,
    new: &Lines<'_>,
    likely: &Packet,
    same: Same,
) -> Result<Noticed, Spent> {
    let mut found: BTreeMap<(usize, usize), (Vec<Piece>, Side, Side)> = BTreeMap::new();
    let mut decisions = BTreeSet::new();
    let changed = changed(old, new, same);
    let mut budget = Budget::new(if changed.len() > MANY { STEPS / 8 } else { STEPS });
    let seen = Hulls::of(changed.iter().map(|line| line.what().1));
    for (at, line) in changed.iter().enumerate() {
        // Packets that an earlier changed line matches have been looked at.
        let mut left = Parts::of([line.piece.clone()]);
        for known in seen.meeting(line.what().1).take_while(|&known| known < at) {
            left.take(changed[known].what(), &mut budget)?;
        }
        for (piece, first) in old.shares(left.rest().collect(), &mut budget)? {
            for (part, second) in new.shares(vec![piece], &mut budget)? {
                decisions.extend(noticing(first, second));
                if !fares_alike(first.of.act, second.of.act) {
                    found
                        .entry((first.decision, second.decision))
                        .or_insert_with(|| (Vec::new(), side(first), side(second)))
                        .0
                        .push(part);
                }
            }
        }
    }
    let direction = old.direction;
    let mut changes: Vec<Change> = found
        .into_values()
        .map(|(pieces, before, after)| {
            let pieces = join(pieces);
            let witness = pieces.first().and_then(|piece| piece.example(likely, direction));
            Change { direction, before, after, pieces, rest: false, witness }
        })
        .collect();
    if let Some(rest) = rest(old, new, likely, &mut budget)? {
        let same = rest.before.by == rest.after.by;
        decisions.extend(same.then(|| rest.after.by.clone()));
        changes.push(rest);
    }
    Ok(Noticed { changes, decisions })
}

/// The decisions that notice where a line of the one list takes what a line of the other took.
fn noticing(first: &Line<'_>, second: &Line<'_>) -> Vec<RuleId> {
    let (old, new) = (&first.of.id, &second.of.id);
    if old == new {
        let differs = !fares_alike(first.of.act, second.of.act);
        return differs.then(|| new.clone()).into_iter().collect();
    }
    [old, new].into_iter().filter(|id| id.kind != Kind::Default).cloned().collect()
}

/// What no rule of either decides: it differs exactly if the defaults do.
fn rest(
    old: &Lines<'_>,
    new: &Lines<'_>,
    likely: &Packet,
    budget: &mut Budget,
) -> Result<Option<Change>, Spent> {
    let (Some(first), Some(second)) = (old.list.last(), new.list.last()) else { return Ok(None) };
    if fares_alike(first.of.act, second.of.act) {
        return Ok(None);
    }
    let rules: Vec<&Line<'_>> =
        old.list.iter().chain(&new.list).filter(|it| it.of.id.kind != Kind::Default).collect();
    let direction = old.direction;
    let witness = find(&Piece::full(), &rules, Some(likely), direction, budget)?;
    Ok(witness.map(|witness| Change {
        direction,
        before: side(first),
        after: side(second),
        pieces: Vec::new(),
        rest: true,
        witness: Some(witness),
    }))
}

/// The lines of rules that are in one list only, or in another order. A packet that none of them
/// matches meets the same lines in the same order in both, and so the same one first.
fn changed<'l, 'p>(old: &'l Lines<'p>, new: &'l Lines<'p>, same: Same) -> Vec<&'l Line<'p>> {
    let is_rule = |line: &&Line<'_>| line.of.id.kind != Kind::Default;
    let first: Vec<&Line<'_>> = old.list.iter().filter(is_rule).collect();
    let second: Vec<&Line<'_>> = new.list.iter().filter(is_rule).collect();
    // Most of an edited list stands at its beginning and its end as it did.
    let alike = |pair: &(&&'l Line<'p>, &&'l Line<'p>)| what(pair.0, same) == what(pair.1, same);
    let begin = first.iter().zip(&second).take_while(alike).count();
    let (first, second) = (&first[begin..], &second[begin..]);
    let end = first.iter().rev().zip(second.iter().rev()).take_while(alike).count();
    let (first, second) = (&first[..first.len() - end], &second[..second.len() - end]);
    let mut places: HashMap<_, VecDeque<usize>> = HashMap::new();
    for (at, line) in second.iter().enumerate() {
        places.entry(what(line, same)).or_default().push_back(at);
    }
    let partners: Vec<Option<usize>> = first
        .iter()
        .map(|line| places.get_mut(&what(line, same)).and_then(VecDeque::pop_front))
        .collect();
    let kept = longest_ascent(&partners);
    let mut stays = vec![false; second.len()];
    let mut list = Vec::new();
    for (at, line) in first.iter().enumerate() {
        match partners[at].filter(|_| kept[at]) {
            Some(partner) => stays[partner] = true,
            None => list.push(*line),
        }
    }
    list.extend(second.iter().zip(stays).filter(|(_, stays)| !stays).map(|(line, _)| *line));
    list
}

/// What of a line has to be alike.
fn what<'l>(line: &'l Line<'_>, same: Same) -> (Act, Option<&'l RuleId>, &'l Piece) {
    (line.of.act, (same == Same::Decisions).then_some(&line.of.id), &line.piece)
}

/// Which of the numbers belong to a longest list of ascending ones (patience sorting: C. Schensted,
/// "Longest Increasing and Decreasing Subsequences", 1961).
fn longest_ascent(numbers: &[Option<usize>]) -> Vec<bool> {
    // For each length the place of the smallest number that ends such a list.
    let mut ends: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = vec![None; numbers.len()];
    for (at, number) in numbers.iter().enumerate() {
        if number.is_none() {
            continue;
        }
        let length = ends.partition_point(|&end| numbers[end] < *number);
        before[at] = length.checked_sub(1).map(|shorter| ends[shorter]);
        if length == ends.len() {
            ends.push(at);
        } else {
            ends[length] = at;
        }
    }
    let mut kept = vec![false; numbers.len()];
    let mut next = ends.last().copied();
    while let Some(at) = next {
        kept[at] = true;
        next = before[at];
    }
    kept
}

/// Where lists differ all over, the diagrams of everything tell what differs, if not in words.
fn by_diagrams(
    before: &HostPlan,
    after: &HostPlan,
    likely: &dyn Fn(Direction) -> Packet,
) -> Vec<Change> {
    let mut atlas = Atlas::new();
    let (old, new) = (atlas.plan(before), atlas.plan(after));
    let acts = |plan: &HostPlan| -> HashMap<RuleId, Act> {
        plan.decisions().map(|(_, it)| (it.id.clone(), it.act)).collect()
    };
    let (were, are) = (acts(before), acts(after));
    let mut changes = Vec::new();
    for (direction, first, second, witness) in atlas.differing(&old, &new, likely) {
        let (Some(first), Some(second)) = (first.by(), second.by()) else { continue };
        let (Some(&was), Some(&is)) = (were.get(first), are.get(second)) else { continue };
        changes.push(Change {
            direction,
            before: Side { by: first.clone(), act: was },
            after: Side { by: second.clone(), act: is },
            pieces: Vec::new(),
            rest: false,
            witness: Some(witness),
        });
    }
    changes
}

#[cfg(test)]
mod tests {
    use super::longest_ascent;

    #[test]
    fn the_fewest_lines_count_as_moved() {
        let numbers = [Some(3), Some(0), None, Some(1), Some(2), Some(4)];
        assert_eq!(longest_ascent(&numbers), [false, true, false, true, true, true]);
    }
}
