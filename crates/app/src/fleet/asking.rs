//! What hosts are asked to try, and what they say.

use serde::{Deserialize, Serialize};
use std::net::{IpAddr, SocketAddr};

/// A host tries no more for one question.
pub(super) const MOST: usize = 64;

/// What hosts are asked to try.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Question {
    /// The fleet.
    pub fleet: String,
    /// When it was asked (RFC 3339), for readers.
    pub at: String,
    /// The connections.
    pub tries: Vec<Try>,
}

/// A connection that somebody is asked to try.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Try {
    /// Who tries it.
    pub from: String,
    /// Whom it goes to.
    pub to: String,
    /// From which address; `None` leaves it to the host.
    pub source: Option<IpAddr>,
    /// The address and port.
    pub at: SocketAddr,
    /// `tcp`, `udp` or `sctp`.
    pub protocol: String,
}

/// What a host says to a question.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Answer {
    /// The number of the question.
    pub question: u64,
    /// When (RFC 3339).
    pub at: String,
    /// What it met, in the order in which it was asked.
    pub met: Vec<Met>,
}

/// What a host met.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Met {
    /// In a word, as [`tipstaff_linux::probe::State`] has them; `None`: it was not tried.
    pub state: Option<String>,
    /// How that was seen, or why it was not tried.
    pub why: String,
}

/// Under which name a host leaves its answer: no host is called so.
pub(super) fn place_of_answer(host: &str) -> String {
    format!(".{host}.tried")
}
