//! What a change of a policy changes for packets.

use super::folded::{Told, belonging, told};
use super::region::{RegionWords, Words};
use super::{By, PacketWords, likely_packet};
use crate::vocabulary as say;
use serde::Serialize;
use std::collections::HashMap;
use tipstaff_core::analysis::{Change, Side, compare};
use tipstaff_core::plan::{Act, Decision, HostPlan, RuleId};
use tipstaff_core::policy::{Policy, Verdict};

/// Packets that fare otherwise than before, all in the same way.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ChangeWords {
    /// What happens: `opens`, `closes`, `limits`, `unlimits`, `answers` (a denial becomes a
    /// rejection) or `silences` (the other way round).
    pub kind: say::Effect,
    /// `inbound`, `outbound` or `forwarded`.
    pub direction: say::Direction,
    /// What happened to them before.
    pub before: SideWords,
    /// What happens to them now.
    pub after: SideWords,
    /// The packets; empty if they are too many to be listed, or if they are the rest.
    pub regions: Vec<RegionWords>,
    /// Whether these are the packets that no rule decides.
    pub rest: bool,
    /// A packet for which it is so.
    pub witness: Option<PacketWords>,
    /// What is told of it where not every part is wanted.
    #[serde(skip)]
    pub told: Told,
}

/// What a change of what the kernel holds changes for packets.
#[derive(Clone, Debug, Default, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Effects {
    /// The changes, or the first of them.
    pub changes: Vec<ChangeWords>,
    /// How many more there are.
    pub more_changes: usize,
    /// Whether they could be worked out at all; if not, the rules overlap in too many ways.
    pub changes_known: bool,
    /// The kinds of all, those that are not told included.
    #[serde(skip)]
    pub kinds: Vec<say::Effect>,
}

impl Effects {
    /// Whether nothing changes for packets.
    pub fn is_nothing(&self) -> bool {
        self.changes_known && self.changes.is_empty() && self.more_changes == 0
    }
}

/// What one policy does.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SideWords {
    /// `allow`, `deny` or `reject`; `unknown` where rules are not understood.
    pub verdict: say::Word,
    /// Up to which rate, if it is limited.
    pub rate: Option<String>,
    /// The decision that says so.
    pub by: By,
}

impl SideWords {
    fn of(side: &Side, decisions: &Decisions<'_>) -> Self {
        let rate = match side.act {
            Act::AllowWithin(rate) => Some(rate.to_string()),
            Act::Decide(_) => None,
        };
        let by = By::found(&side.by, decisions.get(&side.by).copied());
        Self { verdict: side.act.verdict().into(), rate, by }
    }

    /// The verdict in words: `allow 6/minute`, `deny`.
    pub fn words(&self) -> String {
        match &self.rate {
            Some(rate) => format!("{} {rate}", self.verdict),
            None => self.verdict.to_string(),
        }
    }
}

/// The decisions of a plan, by name.
type Decisions<'p> = HashMap<&'p RuleId, &'p Decision>;

/// The differences between two plans.
pub fn changes(before: (&Policy, &HostPlan), after: (&Policy, &HostPlan)) -> Vec<ChangeWords> {
    let likely = |direction| likely_packet(direction, after.1);
    in_words(&compare(before.1, after.1, likely).changes, before, after)
}

/// The changes in words, arranged.
pub(crate) fn in_words(
    changes: &[Change],
    before: (&Policy, &HostPlan),
    after: (&Policy, &HostPlan),
) -> Vec<ChangeWords> {
    let known = [before.1, after.1]
        .map(|plan| plan.decisions().map(|(_, it)| (&it.id, it)).collect::<Decisions<'_>>());
    let mut list: Vec<ChangeWords> =
        changes.iter().map(|change| words(change, before.1, after, &known)).collect();
    arrange(&mut list);
    list
}

/// Whether both say the same of the same packets, whoever decides.
pub(crate) fn same(one: &[ChangeWords], other: &[ChangeWords]) -> bool {
    let what = |it: &ChangeWords| {
        (it.kind, it.direction, serde_json::to_string(&it.regions).unwrap_or_default())
    };
    one.iter().map(what).eq(other.iter().map(what))
}

/// By what those are known that fare alike: the changes without their examples, and without where it is written.
pub(crate) fn alike(changes: &[ChangeWords]) -> String {
    let mut key = String::new();
    for it in changes {
        let regions = serde_json::to_string(&it.regions).unwrap_or_default();
        let side = |it: &SideWords| format!("{} {}", it.words(), it.by.name);
        let (before, after) = (side(&it.before), side(&it.after));
        let what = (it.kind, it.direction, before, after, it.rest, regions);
        key.push_str(&format!("{what:?}\n"));
    }
    key
}

/// Puts what opens first, then what closes; and finds out what belongs to others.
pub fn arrange(list: &mut [ChangeWords]) {
    list.sort_by_key(|change| rank(change.kind));
    let by: Vec<(say::Effect, String, String)> = list
        .iter()
        .map(|it| (it.kind, it.before.by.name.clone(), it.after.by.name.clone()))
        .collect();
    let by: Vec<_> = by.iter().map(|it| (it.0, it.1.as_str(), it.2.as_str())).collect();
    for (change, belongs) in list.iter_mut().zip(belonging(&by)) {
        change.told.belongs = belongs;
    }
}

/// Where a kind stands in a list.
pub(crate) fn rank(kind: say::Effect) -> usize {
    match kind {
        say::Effect::Opens => 0,
        say::Effect::Closes => 1,
        _ => 2,
    }
}

fn words(
    change: &Change,
    before: &HostPlan,
    after: (&Policy, &HostPlan),
    known: &[Decisions<'_>; 2],
) -> ChangeWords {
    let words = Words::of_all(after.0, after.1, before, change.direction);
    let regions = words.pieces(&change.pieces);
    ChangeWords {
        told: told(&change.pieces, &regions, &words),
        kind: kind(change.before.act, change.after.act),
        direction: change.direction.into(),
        before: SideWords::of(&change.before, &known[0]),
        after: SideWords::of(&change.after, &known[1]),
        regions,
        rest: change.rest,
        witness: change.witness.as_ref().map(PacketWords::of),
    }
}

/// What happens to packets with which something else is done.
pub(crate) fn kind(before: Act, after: Act) -> say::Effect {
    let passes = |act: Act| act.verdict() == Verdict::Allow;
    match (passes(before), passes(after)) {
        (false, true) => say::Effect::Opens,
        (true, false) => say::Effect::Closes,
        (true, true) => match after {
            Act::AllowWithin(_) => say::Effect::Limits,
            Act::Decide(_) => say::Effect::Unlimits,
        },
        (false, false) if after == Act::Decide(Verdict::Reject) => say::Effect::Answers,
        (false, false) => say::Effect::Silences,
    }
}
