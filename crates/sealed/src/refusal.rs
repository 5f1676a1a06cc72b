//! Why a sealed bundle is not accepted.

use std::fmt;
use tipstaff_core::policy::Time;

/// Why a sealed bundle is not accepted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// It is not in the form of one: how it differs.
    NotOne(String),
    /// Its signature is not of its bytes.
    Altered,
    /// The key of its signature, by its fingerprint, is nobody's who may sign.
    NobodyOurs(String),
    /// Who signed may do so for something else only: the namespaces.
    ForSomethingElse(String),
    /// Who signed may not yet: from when on.
    NotYet(Time),
    /// Who signed may not any more: since when.
    NoMore(Time),
    /// It is for another fleet.
    OfAnother {
        /// The fleet that it is for.
        its: String,
        /// The fleet that was expected.
        ours: String,
    },
    /// It holds no longer: since when.
    Expired(Time),
    /// It is older than what was seen: its sequence number, and that.
    Older {
        /// Its sequence number.
        its: u64,
        /// The highest one that was seen.
        seen: u64,
    },
    /// Another one of the same sequence number was seen: its digest.
    Twice {
        /// The sequence number of both.
        sequence: u64,
        /// The digest of the one that was seen.
        seen: String,
    },
}

impl Refusal {
    /// One word for it, that stays.
    #[must_use]
    pub fn code(&self) -> &'static str {
        match self {
            Self::NotOne(_) => "not-a-sealed-bundle",
            Self::Altered => "altered",
            Self::NobodyOurs(_) => "signer-unknown",
            Self::ForSomethingElse(_) => "signer-for-something-else",
            Self::NotYet(_) => "signer-not-yet",
            Self::NoMore(_) => "signer-no-more",
            Self::OfAnother { .. } => "another-fleet",
            Self::Expired(_) => "expired",
            Self::Older { .. } => "older",
            Self::Twice { .. } => "twice",
        }
    }
}

impl fmt::Display for Refusal {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NotOne(why) => write!(out, "it is not a sealed bundle: {why}"),
            Self::Altered => out.write_str("its signature is not of these bytes"),
            Self::NobodyOurs(key) => write!(out, "nobody who may sign has the key {key}"),
            Self::ForSomethingElse(only) => write!(out, "who signed it may sign {only} only"),
            Self::NotYet(from) => write!(out, "who signed it may sign from {from} on"),
            Self::NoMore(until) => write!(out, "who signed it may sign no more since {until}"),
            Self::OfAnother { its, ours } => {
                write!(out, "it is for the fleet {its:?}, not for {ours:?}")
            }
            Self::Expired(until) => write!(out, "it holds no longer since {until}"),
            Self::Older { its, seen } => {
                write!(out, "it has sequence number {its}, and {seen} was seen already")
            }
            Self::Twice { sequence, seen } => {
                write!(out, "another one of sequence number {sequence} was seen: sha256 {seen}")
            }
        }
    }
}
