//! Who is a member of a fleet.

use super::asking::{Met, Try};
use super::carrier::Carrier;
use super::order::Numbered;
use super::standing::{NotTaken, Standing};
use super::taken::Taken;
use super::trust::Trust;
use crate::Failure;

/// A member: what it does for a fleet, however it is spoken to.
pub(super) trait Body {
    /// Its name in the fleet.
    ///
    /// # Errors
    /// [`Failure`] if it can have none.
    fn name(&self) -> Result<String, Failure>;

    /// What it did not take, last.
    ///
    /// # Errors
    /// [`Failure`] if that cannot be read.
    fn refused(&self) -> Result<Option<NotTaken>, Failure>;

    /// Takes what an order says, if it is to.
    ///
    /// # Errors
    /// [`Failure`] if it is not known what became of it.
    fn take(
        &mut self,
        carrier: &dyn Carrier,
        order: Option<&Numbered>,
        trust: &Trust,
    ) -> Result<Taken, Failure>;

    /// How it stands. What it said at the carrier that it has seen is not forgotten by what it says next.
    ///
    /// # Errors
    /// [`Failure`] if that cannot be told.
    fn standing(&mut self, carrier: &dyn Carrier, fleet: &str) -> Result<Standing, Failure>;

    /// Tries what it was asked to.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be told what it may try.
    fn answers(&mut self, tries: &[Try]) -> Result<Vec<Met>, Failure>;
}
