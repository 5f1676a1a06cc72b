//! Sealed bundles by their names at the carrier.

use super::carrier::Shelf;
use super::carriers::CarrierName;
use super::folder;
use crate::Failure;
use std::path::Path;

/// The one of the highest number.
const NEWEST: &str = "newest";

/// Whether something is named by its number at the carrier, or as the newest there; else it is a path.
pub(super) fn is_at_carrier(name: &str) -> bool {
    name == NEWEST || !name.is_empty() && name.bytes().all(|it| it.is_ascii_digit())
}

/// The sealed bundle of that name: its number at the carrier, `newest`, or the path of its file.
///
/// # Errors
/// [`Failure`] if it cannot be read.
pub(super) fn read(name: &str, carrier: Option<&CarrierName>) -> Result<Vec<u8>, Failure> {
    if !is_at_carrier(name) {
        return folder::read(Path::new(name), folder::LARGEST).map_err(|error| {
            let message = format!("cannot read {name}: {error}");
            Failure::usage(message, "name a sealed bundle, and look whether you may read it")
        });
    }
    let Some(place) = carrier else {
        let message = format!("`{name}` is at a carrier, and none is named");
        let help = format!("--carrier names it; a file of that name is `./{name}`");
        return Err(Failure::usage(message, help));
    };
    let carrier = place.open()?;
    let number = match name {
        NEWEST => carrier.numbers(Shelf::Sealed)?.first().copied(),
        _ => name.parse().ok(),
    };
    let bytes = number.map_or(Ok(None), |it| carrier.read(Shelf::Sealed, it))?;
    bytes.ok_or_else(|| {
        let message = format!("there is no sealed bundle `{name}` in {}", place.name);
        Failure::usage(message, "`tipstaff fleet seal` puts the first one there")
    })
}
