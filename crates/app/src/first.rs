//! What the first rules of a machine leave open: before them, everything passed.

use crate::folded::told;
use crate::region::{RegionWords, Words};
use crate::vocabulary as say;
use crate::{By, Loaded};
use serde::Serialize;
use std::collections::HashSet;
use tipstaff_core::analysis::{admitted, nearly_everybody, ordinary};
use tipstaff_core::plan::{Act, Condition, Decision, Kind, RuleId};
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::{AddressSet, Direction};

/// One direction.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct StaysOpen {
    /// `inbound`, `outbound` or `forwarded`.
    pub direction: say::Direction,
    /// Whether nothing of it is closed.
    pub everything: bool,
    /// What is not closed, besides what the baseline serves; `null` if that is too much to be told.
    pub open: Option<Vec<Open>>,
    /// How many more rules allow something that are not told, unless all are asked for.
    pub more: usize,
}

/// What one decision leaves open.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Open {
    /// The decision.
    pub by: By,
    /// Up to which rate.
    pub rate: Option<String>,
    /// The packets, first ones of flows.
    pub regions: Vec<RegionWords>,
}

/// Of so many rules it is told what they leave open, unless all are asked for.
const TOLD: usize = 24;

/// What stays open where nothing was closed before: of all decisions, or of the first, and of those that are for nearly
/// everybody before others.
pub(crate) fn stays_open(policy: &Loaded, all: bool) -> Vec<StaysOpen> {
    Direction::ALL.into_iter().map(|direction| of(policy, direction, all)).collect()
}

fn of(policy: &Loaded, direction: Direction, all: bool) -> StaysOpen {
    let plan = &policy.plan;
    let allows = |it: &&Decision| {
        it.idle.is_none() && it.act.verdict() == Verdict::Allow && it.id.kind != Kind::Baseline
    };
    let mut asked: Vec<&Decision> = plan.chain(direction).decisions.iter().filter(allows).collect();
    let wide = |it: &Decision| it.conditions.iter().any(|it| nearly_everybody(far(direction, it)));
    asked.sort_by_key(|it| (it.id.kind == Kind::Rule, !wide(it)));
    let more = if all { 0 } else { asked.len().saturating_sub(TOLD) };
    asked.truncate(asked.len() - more);
    let asked: HashSet<&RuleId> = asked.into_iter().map(|it| &it.id).collect();
    let found = admitted(plan, direction, &ordinary(plan, direction), |it| asked.contains(&it.id));
    let words = Words::of(&policy.policy, plan, direction);
    let open = found.shares.map(|all| {
        let open = all.into_iter().map(|it| Open {
            by: it.decision.into(),
            rate: match it.decision.act {
                Act::AllowWithin(rate) => Some(rate.to_string()),
                Act::Decide(_) => None,
            },
            regions: told(&it.pieces, &words.pieces(&it.pieces), &words).regions,
        });
        open.collect()
    });
    let everything = found.everything;
    StaysOpen { direction: direction.into(), everything, open, more }
}

/// The addresses of those who are not the host, or who send what it passes on.
fn far(direction: Direction, condition: &Condition) -> &AddressSet {
    match direction {
        Direction::Inbound | Direction::Forwarded => &condition.source,
        Direction::Outbound => &condition.destination,
    }
}
