//! What the first rules of a machine leave open: before them, everything passed.

use crate::folded::told;
use crate::region::{RegionWords, Words};
use crate::vocabulary as say;
use crate::{By, Loaded};
use serde::Serialize;
use tipstaff_core::analysis::{admitted, ordinary};
use tipstaff_core::plan::{Act, Kind};
use tipstaff_core::space::Direction;

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

/// What stays open where nothing was closed before.
pub(crate) fn stays_open(policy: &Loaded) -> Vec<StaysOpen> {
    Direction::ALL.into_iter().map(|direction| of(policy, direction)).collect()
}

fn of(policy: &Loaded, direction: Direction) -> StaysOpen {
    let plan = &policy.plan;
    let found = admitted(plan, direction, &ordinary(plan, direction));
    let words = Words::of(&policy.policy, plan, direction);
    let open = found.shares.map(|all| {
        let written = all.into_iter().filter(|it| it.decision.id.kind != Kind::Baseline);
        let open = written.map(|it| Open {
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
    StaysOpen { direction: direction.into(), everything, open }
}
