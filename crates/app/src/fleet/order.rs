//! Which hosts are to take which sealed bundle: orders, each with a number, of which the last counts.

use super::carrier::{Carrier, Put, Shelf};
use crate::Failure;
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// So many others may have been faster.
const TRIES: usize = 64;

/// Which hosts are to take which sealed bundle.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Order {
    /// The number of the sealed bundle.
    pub number: u64,
    /// The hosts that are to take it, in the order in which they were told to; the others go on as they are.
    pub hosts: Vec<String>,
    /// Whether all hosts are to take it; then none is listed, for every host reads it.
    pub all: bool,
    /// How many hosts are told to take it, all together: so they take their time, and not all ask at once.
    #[serde(default)]
    pub among: usize,
    /// Whether no more hosts take it for now.
    pub held: bool,
    /// Which attempt at rolling it out it is: what a host did not take in one it tries again in the next only.
    pub attempt: u64,
    /// Why it is so, for readers; may be empty.
    pub why: String,
    /// When it was written (RFC 3339).
    pub at: String,
}

/// So many hosts a second are what a carrier can easily bear.
const A_SECOND: usize = 200;
/// Within this, a few hosts take it.
const SOON: Duration = Duration::from_secs(3);

impl Order {
    /// Within which time those that hear of it take it, each at a moment of its own.
    pub(super) fn within(&self) -> Duration {
        SOON + Duration::from_secs((self.among / A_SECOND) as u64)
    }

    /// Whether that host is to take it.
    pub(super) fn is_for(&self, host: &str) -> bool {
        self.all || self.hosts.iter().any(|it| it == host)
    }
}

/// An order with its number.
pub(super) type Numbered = (u64, Order);

/// The order of that number, the highest at the carrier; `None` if there is none. One that is `known` is not read again.
///
/// # Errors
/// [`Failure`] if it cannot be read: then it is not known what is to be done.
pub(super) fn read_but(
    carrier: &dyn Carrier,
    number: Option<u64>,
    known: Option<Numbered>,
) -> Result<Option<Numbered>, Failure> {
    let Some(number) = number else { return Ok(None) };
    if let Some(known) = known.filter(|it| it.0 == number) {
        return Ok(Some(known));
    }
    let bytes = carrier.read(Shelf::Orders, number)?.unwrap_or_default();
    let order = serde_json::from_slice(&bytes).map_err(|error| Failure::System {
        message: format!("order {number} cannot be read: {error}"),
        help: vec!["no host takes anything new until the next `tipstaff fleet roll-out`".into()],
    })?;
    Ok(Some((number, order)))
}

/// The last order at the carrier; `None` if there is none.
///
/// # Errors
/// As for [`read_but`].
pub(super) fn last(carrier: &dyn Carrier) -> Result<Option<Numbered>, Failure> {
    read_but(carrier, carrier.highest(Shelf::Orders)?, None)
}

/// Writes an order behind the last, which `next` gets to see, as often as somebody else was faster; gives it with its
/// number. `None` if nothing is to be ordered.
///
/// # Errors
/// [`Failure`] if it cannot be read or written.
pub(super) fn write(
    carrier: &dyn Carrier,
    next: impl Fn(Option<&Order>) -> Option<Order>,
) -> Result<Option<Numbered>, Failure> {
    for _ in 0..TRIES {
        let after = carrier.highest(Shelf::Orders)?.unwrap_or_default();
        // What cannot be read is put right by the next.
        let before = last(carrier).ok().flatten().map(|it| it.1);
        let Some(order) = next(before.as_ref()) else { return Ok(None) };
        let bytes = serde_json::to_vec_pretty(&order).unwrap_or_default();
        if carrier.put(Shelf::Orders, after + 1, &bytes)? == Put::Done {
            return Ok(Some((after + 1, order)));
        }
    }
    Err(Failure::System {
        message: "others write orders faster than this one can be written".into(),
        help: vec!["look who else rolls out".into()],
    })
}
