//! Postures, in words.

use crate::vocabulary as say;
use crate::{Outcome, cut, transaction};
use serde::Serialize;
use tipstaff_core::policy::SHUT;

/// Which posture is in force, and what was done about it.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// What was done: `shut`, `opened`, `taken`, `would-take`, `left`, `would-leave`, `nothing-to-leave`, `looked`.
    pub done: say::Moved,
    /// The posture in force now, or that would be: `shut`, or one of the policy; `null`: none.
    pub posture: Option<String>,
    /// Since when, in UTC.
    pub since: Option<String>,
    /// Until when, in UTC; `null`: until it is left, or its command ends.
    pub until: Option<String>,
    /// The posture that holds once it is over; `null`: none.
    pub then: Option<String>,
    /// The process of the command with which it ends, if it does.
    pub ends_with: Option<u32>,
    /// Why, as whoever took it said.
    pub why: Option<String>,
    /// The remote session that goes on though the door is shut, as `ADDRESS:PORT to ADDRESS:PORT`.
    pub session: Option<String>,
    /// Whether the kernel does what was meant by a shut door; `null` if it is not shut.
    pub intact: Option<bool>,
    /// How many packets a shut door has turned away.
    pub turned_away: Option<u64>,
    /// How many connections were ended when the door was shut.
    pub ended: Option<u64>,
    /// The posture of the policy that a shut door hides, or that was left; `null` if there is none.
    pub behind: Option<String>,
    /// Those of the policy, in the order written; `null` if the policy cannot be read.
    pub postures: Option<Vec<Known>>,
    /// The posture that every boot begins in.
    pub at_boot: Option<String>,
    /// Where postures hold by themselves: whether the one in force does; `null` if none of the policy does.
    pub by_itself: Option<bool>,
    /// Likewise: whether a process sees to it at once (`attend`); `null` if that is not known.
    pub attended: Option<bool>,
    /// What taking or leaving changed.
    pub change: Option<transaction::Report>,
    /// What only the posture that was left admitted.
    pub living: Option<cut::Report>,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
}

/// A posture of the policy.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Known {
    /// Its name.
    pub name: String,
    /// How many rules it has.
    pub rules: usize,
    /// Whether they stand instead of the host's own; else they are ahead of them.
    pub instead: bool,
    /// Whether it is in force.
    pub in_force: bool,
    /// Whether it holds by itself where it belongs.
    pub by_place: bool,
    /// What it is for.
    pub why: Option<String>,
}

impl Report {
    /// Nothing is known yet.
    pub(super) fn did(done: say::Moved) -> Self {
        Self {
            done,
            posture: None,
            since: None,
            until: None,
            then: None,
            ends_with: None,
            why: None,
            session: None,
            intact: None,
            turned_away: None,
            ended: None,
            behind: None,
            postures: None,
            at_boot: None,
            by_itself: None,
            attended: None,
            change: None,
            living: None,
            remarks: Vec::new(),
        }
    }

    /// Whether the door is shut.
    pub fn is_shut(&self) -> bool {
        self.posture.as_deref() == Some(SHUT)
    }

    /// Well, unless somebody has changed what holds, or something goes on that was to be ended.
    pub fn outcome(&self) -> Outcome {
        let goes_on =
            self.living.as_ref().is_some_and(|it| it.cut && it.outcome() != Outcome::Fine);
        if self.intact == Some(false) || goes_on { Outcome::Found } else { Outcome::Fine }
    }
}
