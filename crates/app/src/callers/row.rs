//! A row of the report.

use crate::vocabulary as say;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

/// What is put together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "snake_case")]
pub enum By {
    /// All of one address, or of one network where no more is known.
    Sender,
    /// All of one network: of the first 24 bits of IPv4 addresses, and 64 of IPv6.
    Network,
    /// All who wanted the same.
    Port,
    /// All that one decision decided.
    Rule,
}

/// An entry, or several put together.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Row {
    /// `inbound`, `outbound` or `forwarded`; `null` if several are put together.
    pub direction: Option<say::Direction>,
    /// Who came, or whom this host went to: an address or a network; `null` if several are put together.
    pub who: Option<String>,
    /// How many different ones.
    pub senders: usize,
    /// The places of the policy that they are all in, the smallest first.
    pub places: Vec<String>,
    /// What they wanted, such as `22/tcp`; `several` where there was no room to tell.
    pub traffic: Vec<String>,
    /// The registered service of that port, if it is one.
    pub service: Option<String>,
    /// `admitted` or `denied`; `null` if several are put together that fared differently.
    pub fared: Option<say::Fared>,
    /// The decisions.
    pub by: Vec<String>,
    /// How many packets; of a connection that is admitted the first only.
    pub count: u64,
    /// When the first one came (RFC 3339); `null` if that is longer ago than is remembered.
    pub first: Option<String>,
    /// When the last one came.
    pub last: String,
    /// How many seconds ago the first one came.
    pub first_seconds_ago: Option<u64>,
    /// How many seconds ago the last one came.
    pub last_seconds_ago: u64,
    /// The command that would admit exactly this, if there is one.
    pub admit: Option<String>,
    /// The command that would turn them away for good.
    pub turn_away: Option<String>,
}

/// A moment so many milliseconds ago, to the second.
pub(super) fn moment(now: Timestamp, ago: u64) -> String {
    let ago = SignedDuration::from_millis(i64::try_from(ago).unwrap_or(i64::MAX));
    let then = now.checked_sub(ago).ok();
    let then = then.and_then(|it| Timestamp::from_second(it.as_second()).ok());
    then.map(|it| it.to_string()).unwrap_or_default()
}
