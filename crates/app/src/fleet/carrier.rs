//! How sealed bundles come from who seals them to the hosts.

use super::folder::Folder;
use crate::Failure;
use std::path::Path;

/// A place that whoever seals can write and hosts can read. What is in it is believed only as far as it is signed.
pub(super) trait Carrier {
    /// The sequence numbers of what is there, the highest first.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be looked at: then nothing is known of what is there.
    fn numbers(&self) -> Result<Vec<u64>, Failure>;

    /// The bytes of the sealed bundle of that number; `None` if there is none.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be read.
    fn bundle(&self, number: u64) -> Result<Option<Vec<u8>>, Failure>;

    /// Puts one there, if there is none of that number: of many who try at once, one does.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be written.
    fn put(&self, number: u64, bytes: &[u8]) -> Result<Put, Failure>;

    /// Where the one of that number is, for people.
    fn place(&self, number: u64) -> String;
}

/// What became of putting something there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Put {
    /// It is there.
    Done,
    /// Somebody else was first.
    Taken,
}

/// The carrier that is named so.
pub(super) fn named(name: &Path) -> impl Carrier {
    Folder::at(name)
}
