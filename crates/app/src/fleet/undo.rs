//! Back to what was sealed before, under a new number.

use super::order::{self, Order};
use super::seal::{SealWish, Sealed, seal_before};
use crate::{Failure, now};
use serde::Serialize;

/// What was gone back to.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Undone {
    /// What was sealed once more.
    pub sealed: Sealed,
    /// The hosts that are told to take it: those that were told to take the one it takes back.
    pub hosts: Vec<String>,
    /// Whether all are; then none is listed.
    pub all: bool,
}

/// Seals once more what was sealed before the newest, and tells all that were told to take that to take this.
///
/// # Errors
/// [`Failure`] if nothing was before, the key cannot be used, or the carrier cannot be read or written.
pub fn undo(wish: &SealWish<'_>) -> Result<Undone, Failure> {
    let carrier = wish.trust.carrier.open()?;
    let last = order::last(&*carrier)?.map(|it| it.1);
    let sealed = seal_before(wish)?;
    if wish.dry {
        let (hosts, all) = last.map(|it| (it.hosts, it.all)).unwrap_or_default();
        return Ok(Undone { sealed, hosts, all });
    }
    let number = sealed.statement.sequence;
    let next = |before: Option<&Order>| {
        let (hosts, all) = before.map(|it| (it.hosts.clone(), it.all)).unwrap_or_default();
        let (at, why) = (now().to_string(), "what was rolled out is undone".to_owned());
        let among = before.map_or(0, |it| it.among);
        Some(Order { number, hosts, all, among, held: false, attempt: 1, why, at })
    };
    let written = order::write(&*carrier, next)?;
    let (hosts, all) = written.map(|it| (it.1.hosts, it.1.all)).unwrap_or_default();
    Ok(Undone { sealed, hosts, all })
}
