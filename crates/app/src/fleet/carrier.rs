//! How sealed bundles come from who seals them to the hosts, and word of the hosts back.

use crate::Failure;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

/// What has numbers at a carrier, each given once.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Shelf {
    /// Sealed bundles.
    Sealed,
    /// Orders: which hosts are to take which.
    Orders,
    /// Questions: what hosts are asked to try.
    Questions,
}

/// A place that whoever seals can write and hosts can read. What is in it is believed only as far as it is signed.
pub(super) trait Carrier: fmt::Debug {
    /// The numbers of what is on a shelf, the highest first.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be looked at: then nothing is known of what is there.
    fn numbers(&self, shelf: Shelf) -> Result<Vec<u64>, Failure>;

    /// The highest number of a shelf; `None` if nothing is there.
    ///
    /// # Errors
    /// As for [`Carrier::numbers`].
    fn highest(&self, shelf: Shelf) -> Result<Option<u64>, Failure> {
        Ok(self.numbers(shelf)?.first().copied())
    }

    /// The highest numbers of orders and of questions, where it is known already how high they are at least.
    ///
    /// # Errors
    /// As for [`Carrier::numbers`].
    fn highest_two(&self, _known: [u64; 2]) -> Result<[Option<u64>; 2], Failure> {
        Ok([self.highest(Shelf::Orders)?, self.highest(Shelf::Questions)?])
    }

    /// The bytes of what has that number; `None` if there is nothing.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be read.
    fn read(&self, shelf: Shelf, number: u64) -> Result<Option<Vec<u8>>, Failure>;

    /// Puts something there, if there is nothing of that number: of many who try at once, one does.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be written.
    fn put(&self, shelf: Shelf, number: u64, bytes: &[u8]) -> Result<Put, Failure>;

    /// Where what has that number is, for people.
    fn place(&self, shelf: Shelf, number: u64) -> String;

    /// Leaves word of a host, in place of its last.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be written: then the carrier is not reached.
    fn tell(&self, host: &str, word: &[u8]) -> Result<(), Failure>;

    /// Says that a host is still there, and that its last word still holds, where that costs less than the word; whether
    /// that can be said so.
    ///
    /// # Errors
    /// [`Failure`] if the carrier is not reached.
    fn stays(&self, _host: &str) -> Result<bool, Failure> {
        Ok(false)
    }

    /// Whether it may be asked on after it failed: it begins anew by itself.
    fn mends(&self) -> bool {
        false
    }

    /// The last word of a host; `None` if it never said anything.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be looked at.
    fn word_of(&self, host: &str) -> Result<Option<Vec<u8>>, Failure>;

    /// Somebody who waits until there is something new, where that costs less than looking all the time.
    fn waiting(&self) -> Option<Box<dyn Waiting + Send>> {
        None
    }

    /// The last word of each host.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be looked at.
    fn told(&self) -> Result<Vec<Word>, Failure>;
}

/// Who waits for what is new at a carrier.
pub(super) trait Waiting: fmt::Debug {
    /// Comes back once there may be new orders or questions, at the latest after some minutes, and soon if it is `over`.
    /// Gives what is told of itself, without being asked; nothing if it has to be looked.
    ///
    /// # Errors
    /// Why it cannot be waited for just now.
    fn wait(&mut self, over: &AtomicBool) -> Result<Vec<Told>, String>;
}

/// Something new at a carrier.
#[derive(Clone, Debug)]
pub(super) struct Told {
    /// On which shelf.
    pub shelf: Shelf,
    /// Its number.
    pub number: u64,
    /// What it says.
    pub bytes: Vec<u8>,
}

/// The last word of a host.
#[derive(Clone, Debug)]
pub(super) struct Word {
    /// The host, as the carrier has it.
    pub host: String,
    /// What it said.
    pub bytes: Vec<u8>,
    /// How long ago, by the clocks of the carrier and of this machine.
    pub ago: Duration,
}

/// What became of putting something there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Put {
    /// It is there.
    Done,
    /// Somebody else was first.
    Taken,
}

/// Whether a host can be called so at a carrier: a word of letters, digits, dots and hyphens.
pub(super) fn is_host(name: &str) -> bool {
    let inner = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_' | b'.');
    !name.is_empty() && name.len() <= 253 && !name.starts_with('.') && name.bytes().all(inner)
}
