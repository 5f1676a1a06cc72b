//! How things stand with a host of a fleet, in its own words.

use serde::{Deserialize, Serialize};

/// How things stand with a host of a fleet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Standing {
    /// The name of the machine.
    pub host: String,
    /// The fleet.
    pub fleet: String,
    /// When it said so, by its own clock (RFC 3339).
    pub at: String,
    /// Within how many seconds it says so again.
    pub again: u64,
    /// The sealed bundle that it has; `null`: none yet.
    pub has: Option<Has>,
    /// The sealed bundle of the highest number that it has seen, or said here before that it has; `null`: none.
    #[serde(default)]
    pub seen: Option<Highest>,
    /// Whether every packet fares by its kernel's rules as by that; `null` if that is not known.
    pub in_force: Option<bool>,
    /// How they differ, if they do: one example.
    pub drift: Option<String>,
    /// The posture it is in; `null`: none.
    pub posture: Option<String>,
    /// Whether somebody changed its policy on the machine itself.
    pub changed_here: bool,
    /// What it did not take that it was told to, and why.
    pub refused: Option<NotTaken>,
    /// What keeps it from looking for more, or from keeping what it took; `null`: nothing.
    #[serde(default)]
    pub trouble: Option<String>,
    /// What does not answer of what its policy asks it to try.
    #[serde(default)]
    pub unanswered: Vec<Unanswered>,
    /// How many findings a review of its policy has; `null` if that is not known.
    pub findings: Option<usize>,
    /// The version of Tipstaff.
    pub version: String,
    /// The release of its kernel.
    pub kernel: String,
}

/// A sealed bundle that a host has.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Has {
    /// Its number.
    pub number: u64,
    /// Its digest: SHA-256, in hexadecimal digits.
    pub sha256: String,
    /// Since when the host has it (RFC 3339).
    pub since: String,
}

impl Has {
    /// The same as what was seen.
    #[must_use]
    pub fn as_seen(&self) -> Highest {
        Highest { number: self.number, sha256: self.sha256.clone() }
    }
}

/// The sealed bundle of the highest number that a host has seen.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Highest {
    /// Its number.
    pub number: u64,
    /// Its digest: SHA-256, in hexadecimal digits.
    pub sha256: String,
}

/// A sealed bundle that a host did not take.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct NotTaken {
    /// Its number.
    pub number: u64,
    /// In which attempt at rolling it out: if it went back, it is tried again in another one only.
    pub attempt: u64,
    /// A word for why, that stays: `went-back`, `changed-here`, `not-for-this-host`, `stopped`, or that of a refusal.
    pub code: String,
    /// The same, as a sentence.
    pub why: String,
}

/// A connection that was tried and not answered as a service does.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Unanswered {
    /// The host.
    pub to: String,
    /// The address and port.
    pub at: String,
    /// The protocol: `tcp`, `udp` or `sctp`.
    pub protocol: String,
    /// What was met instead.
    pub why: String,
}

impl Unanswered {
    /// The same, as a sentence.
    #[must_use]
    pub fn line(&self) -> String {
        format!("{} does not answer at {}/{}: {}", self.to, self.at, self.protocol, self.why)
    }
}
