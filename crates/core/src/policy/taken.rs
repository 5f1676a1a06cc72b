//! Postures by their names, and as they are taken.

use super::Time;
use serde::{Deserialize, Serialize};

/// In an expectation: whichever posture is in force, or none.
pub const ALWAYS: &str = "always";
/// The word for no posture, where one is named.
pub const NO_POSTURE: &str = "none";
/// The posture that is built in.
pub const SHUT: &str = "shut";

/// A posture as it was taken.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Taken {
    /// Its name.
    pub name: String,
    /// Since when.
    pub since: Time,
    /// When it ends by itself; `None`: when it is left.
    pub until: Option<Time>,
    /// Why it was taken, in the words of whoever took it; may be empty.
    pub why: String,
    /// The posture without an end in which it was taken, and that holds again once it is over.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub then: Option<Box<Self>>,
}

impl Taken {
    /// Whether that is in force at a moment.
    #[must_use]
    pub fn holds_at(&self, now: Time) -> bool {
        self.until.is_none_or(|until| now < until)
    }

    /// The posture that is in force at a moment: this one, or the one behind it.
    #[must_use]
    pub fn at(&self, now: Time) -> Option<&Self> {
        if self.holds_at(now) { Some(self) } else { self.then.as_deref() }
    }

    /// Whether both are the same posture with the same end, and the same behind it.
    #[must_use]
    pub fn is_as(&self, other: &Self) -> bool {
        let behind = match (&self.then, &other.then) {
            (Some(one), Some(other)) => one.is_as(other),
            (None, None) => true,
            _ => false,
        };
        behind && (&self.name, self.until) == (&other.name, other.until)
    }

    /// Whether both are one and the same taking.
    #[must_use]
    pub fn is(&self, other: &Self) -> bool {
        self.is_as(other) && self.since == other.since
    }
}
