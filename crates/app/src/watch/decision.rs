//! A decision in words.

use crate::Loaded;
use crate::callers::{self, Places};
use crate::vocabulary as say;
use serde::Serialize;
use std::net::IpAddr;
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::{Direction, Packet};
use tipstaff_linux::ruleset::{Caller, Who};
use tipstaff_linux::watching::Seen;

/// A decision that was made about a packet.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Decision {
    /// When it was told, to the millisecond (RFC 3339).
    pub time: String,
    /// `inbound`, `outbound` or `forwarded`.
    pub direction: say::Direction,
    /// `allow`, `deny` or `reject`.
    pub verdict: say::Verdict,
    /// The decision; `null` if that cannot be told.
    pub by: Option<String>,
    /// Where the packet comes from.
    pub from: IpAddr,
    /// From which port, where it has one.
    pub source_port: Option<u16>,
    /// Where it goes.
    pub to: IpAddr,
    /// What it wants, such as `22/tcp`.
    pub traffic: String,
    /// The registered service of that port, if it is one.
    pub service: Option<String>,
    /// The places of the policy that the other end is in, the smallest first.
    pub places: Vec<String>,
    /// The interface by which it came in.
    pub in_interface: Option<String>,
    /// The interface by which it goes out.
    pub out_interface: Option<String>,
    #[serde(skip)]
    seen: Seen,
}

impl Decision {
    pub(super) fn of(seen: Seen, time: &str, places: &Places<'_>) -> Self {
        let outbound = seen.direction == Direction::Outbound;
        let other = if outbound { seen.destination } else { seen.source };
        let traffic = callers::term(seen.wanted);
        Self {
            time: time.to_owned(),
            direction: seen.direction.into(),
            verdict: seen.verdict.into(),
            by: seen.decision.as_ref().map(ToString::to_string),
            from: seen.source,
            source_port: seen.source_port,
            to: seen.destination,
            service: callers::service(&traffic),
            traffic,
            places: places.of_address(other),
            in_interface: seen.in_interface.clone(),
            out_interface: seen.out_interface.clone(),
            seen,
        }
    }

    /// The packet.
    pub(super) fn packet(&self) -> Packet {
        self.seen.packet()
    }

    /// As the kernel told it.
    pub(super) fn seen(&self) -> &Seen {
        &self.seen
    }
}

/// What would admit exactly this, if it was turned away; and what would turn its sender away for good.
pub(super) fn advice(loaded: &Loaded, decision: &Decision) -> (Option<String>, Option<String>) {
    let seen = &decision.seen;
    let outbound = seen.direction == Direction::Outbound;
    let other = if outbound { seen.destination } else { seen.source };
    let Some(id) = seen.decision.clone() else { return (None, None) };
    let caller = Caller {
        direction: seen.direction,
        decision: id,
        admitted: seen.verdict == Verdict::Allow,
        who: Who::Address(other),
        wanted: seen.wanted,
        count: 1,
        first: None,
        last: 0,
    };
    let advice = callers::advice(loaded, &caller);
    let inbound = seen.direction == Direction::Inbound;
    let away = || format!("tipstaff turn-away {other}");
    let turn_away = advice.turn_away.or_else(|| (inbound && caller.admitted).then(away));
    (advice.admit, turn_away)
}
