//! What became of what a host was told to take.

use super::kept::Member;
use super::standing::{Has, NotTaken};
use crate::Outcome;
use crate::effect::Effects;
use crate::vocabulary as say;
use serde::Serialize;

/// In a lab of its kernel, packets did not meet what it says.
pub(super) const REHEARSAL: &str = "rehearsal";
/// It took it, and shut itself off with it.
pub(super) const WENT_BACK: &str = "went-back";

/// What became of what a host was told to take.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Taken {
    /// What was done: `taken`, `nothing-new`, `refused`.
    pub done: say::Took,
    /// The number of the sealed bundle; `null` if this host is told to take none.
    pub number: Option<u64>,
    /// What it has now.
    pub has: Option<Has>,
    /// Why it was not taken.
    pub refused: Option<NotTaken>,
    /// Why it was not rehearsed in a sealed lab of this machine's kernel before; `null`: it was, or nothing was taken.
    pub not_rehearsed: Option<String>,
    /// Why the carrier could not be told how this host stands now; `null`: it was, or whoever attends tells it.
    pub not_said: Option<String>,
    /// What it changed for packets, if it was taken.
    #[serde(flatten)]
    pub effects: Effects,
}

impl Taken {
    /// Whether it was, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.done == say::Took::Refused { Outcome::Found } else { Outcome::Fine }
    }
}

pub(super) fn nothing(member: Member, number: Option<u64>) -> Taken {
    let effects = Effects { changes_known: true, ..Effects::default() };
    Taken {
        done: say::Took::NothingNew,
        number,
        has: member.has,
        refused: None,
        not_rehearsed: None,
        not_said: None,
        effects,
    }
}

pub(super) fn not_taken(has: Option<Has>, refused: NotTaken) -> Taken {
    let effects = Effects { changes_known: true, ..Effects::default() };
    let number = Some(refused.number);
    Taken {
        done: say::Took::Refused,
        number,
        has,
        refused: Some(refused),
        not_rehearsed: None,
        not_said: None,
        effects,
    }
}
