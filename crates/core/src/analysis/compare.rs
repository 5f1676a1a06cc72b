//! Which packets two plans treat differently.

use super::budget::{Budget, Spent};
use super::edited::{Same, changed};
use super::first::First;
use super::index::Hulls;
use super::lines::{Line, Lines, find};
use super::parts::Parts;
use super::question::STEPS;
use crate::hands::{Hands, OneByOne, Turn, in_turns};
use crate::meaning::Atlas;
use crate::plan::{Act, HostPlan, Kind, RuleId};
use crate::space::{Direction, Packet, Piece, join};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::atomic::{AtomicUsize, Ordering};

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
    /// The differences, or those of them that come first; none exactly when every packet fares alike.
    pub changes: Vec<Change>,
    /// What is done, before and after, with the packets of each of the others.
    pub others: Vec<(Act, Act)>,
}

/// The packets that fare differently by two plans, by the decisions that say so. Names and what is
/// reported do not matter, nor does which of two like rules decides.
#[must_use]
pub fn compare(
    before: &HostPlan,
    after: &HostPlan,
    likely: impl Fn(Direction) -> Packet,
) -> Comparison {
    compare_by(&OneByOne, [before, after], First::ALL, likely)
}

/// Likewise the first of them, by some hands.
#[must_use]
pub fn compare_by(
    hands: &impl Hands,
    plans: [&HostPlan; 2],
    first: First,
    likely: impl Fn(Direction) -> Packet,
) -> Comparison {
    match all_lines(hands, plans, &likely, Same::Acts) {
        Ok(Noticed { mut changes, .. }) => {
            let others = first.sort(&mut changes, |it| (it.before.act, it.after.act));
            Comparison { changes, others }
        }
        Err(Spent) => by_diagrams(hands, plans, first, &likely),
    }
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
    hands: &impl Hands,
    plans: [&HostPlan; 2],
    likely: impl Fn(Direction) -> Packet,
) -> Option<Noticed> {
    all_lines(hands, plans, &likely, Same::Decisions).ok()
}

/// With more changed lines than these, diagrams of everything are worked out in the time of fewer steps.
const MANY: usize = 8_000;
/// Of so many, one is looked at beforehand: they are given up if all take more than twice the steps that there are.
const SOME: usize = 32;

fn all_lines(
    hands: &impl Hands,
    [before, after]: [&HostPlan; 2],
    likely: &dyn Fn(Direction) -> Packet,
    same: Same,
) -> Result<Noticed, Spent> {
    let mut all = Noticed::default();
    for direction in Direction::ALL {
        let (old, new) =
            hands.both(|| Lines::of(before.chain(direction)), || Lines::of(after.chain(direction)));
        let found = compare_lines(hands, &old, &new, &likely(direction), same)?;
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

/// The packets of a changed line that a line of the old list took, and one of the new list takes.
type Taken<'l, 'p> = (Piece, &'l Line<'p>, &'l Line<'p>);

fn compare_lines(
    hands: &impl Hands,
    old: &Lines<'_>,
    new: &Lines<'_>,
    likely: &Packet,
    same: Same,
) -> Result<Noticed, Spent> {
    let changed = changed(old, new, same);
    let bound = if changed.len() > MANY { STEPS / 8 } else { STEPS };
    let seen = Hulls::of(changed.iter().map(|line| line.what().1));
    let spent = AtomicUsize::new(0);
    let of_line = |at: usize| -> Result<Vec<Taken<'_, '_>>, Spent> {
        let line = changed[at];
        let mut budget = Budget::new(bound);
        // Packets that an earlier changed line matches have been looked at.
        let mut left = Parts::of([line.piece.clone()]);
        for known in seen.meeting(line.what().1).take_while(|&known| known < at) {
            left.take(changed[known].what(), &mut budget)?;
        }
        let mut taken = Vec::new();
        for (piece, first) in old.shares(left.rest().collect(), &mut budget)? {
            for (part, second) in new.shares(vec![piece], &mut budget)? {
                taken.push((part, first, second));
            }
        }
        // All lines together have so many steps, whoever takes them.
        let steps = bound - budget.left();
        let all = spent.fetch_add(steps, Ordering::Relaxed).saturating_add(steps);
        if all > bound { Err(Spent) } else { Ok(taken) }
    };
    if changed.len() > MANY {
        // Most often they are far too many, which a few of them show.
        for at in (0..changed.len()).step_by(SOME) {
            of_line(at)?;
        }
        if spent.swap(0, Ordering::Relaxed).saturating_mul(SOME) > bound.saturating_mul(2) {
            return Err(Spent);
        }
    }
    let work =
        |turn: Turn<'_>| turn.map(|at| Ok((at, of_line(at)?))).collect::<Result<Vec<_>, _>>();
    let mut taken: Vec<(usize, Vec<Taken<'_, '_>>)> = Vec::with_capacity(changed.len());
    for part in in_turns(hands, changed.len(), &work) {
        taken.extend(part?);
    }
    taken.sort_unstable_by_key(|it| it.0);
    let mut found: BTreeMap<(usize, usize), (Vec<Piece>, Side, Side)> = BTreeMap::new();
    let mut decisions = BTreeSet::new();
    for (part, first, second) in taken.into_iter().flat_map(|it| it.1) {
        decisions.extend(noticing(first, second));
        if !fares_alike(first.of.act, second.of.act) {
            found
                .entry((first.decision, second.decision))
                .or_insert_with(|| (Vec::new(), side(first), side(second)))
                .0
                .push(part);
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
    let mut budget = Budget::new(bound.saturating_sub(spent.into_inner()));
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

/// Where lists differ all over, the diagrams of everything tell what differs, if not in words.
fn by_diagrams(
    hands: &impl Hands,
    plans: [&HostPlan; 2],
    first: First,
    likely: &dyn Fn(Direction) -> Packet,
) -> Comparison {
    let mut atlas = Atlas::new();
    let [old, new] = atlas.plans(hands, plans);
    let [were, are] = plans.map(|plan| -> HashMap<&RuleId, Act> {
        plan.decisions().map(|(_, it)| (&it.id, it.act)).collect()
    });
    let differing = atlas.differing(&old, &new);
    let mut list = Vec::new();
    for (at, (direction, old, new)) in differing.pairs().enumerate() {
        let (Some(old), Some(new)) = (old.by(), new.by()) else { continue };
        let (Some(&was), Some(&is)) = (were.get(old), are.get(new)) else { continue };
        list.push((at, direction, (old, was), (new, is)));
    }
    let others = first.sort(&mut list, |it| (it.2.1, it.3.1));
    let likely = Direction::ALL.map(likely);
    let side = |(by, act): (&RuleId, Act)| Side { by: by.clone(), act };
    let changes = list.into_iter().map(|(at, direction, old, new)| Change {
        direction,
        before: side(old),
        after: side(new),
        pieces: Vec::new(),
        rest: false,
        witness: differing.packet(at, &likely[direction as usize]),
    });
    Comparison { changes: changes.collect(), others }
}
