//! Numbers by which it is known whether a rule still means what it meant.

use super::model::Decision;
use std::hash::{Hash, Hasher};

/// FNV-1a (Fowler, Noll, Vo): the same number for the same bytes, today and in another process.
struct Fnv(u64);

impl Hasher for Fnv {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, bytes: &[u8]) {
        for byte in bytes {
            self.0 = (self.0 ^ u64::from(*byte)).wrapping_mul(0x0000_0100_0000_01b3);
        }
    }
}

impl Decision {
    /// A number for what it takes and what it does with that: one that takes something else, or does something
    /// else, has another. How it is written does not matter.
    #[must_use]
    pub fn fingerprint(&self) -> u64 {
        let mut hasher = Fnv(0xcbf2_9ce4_8422_2325);
        self.act.hash(&mut hasher);
        self.conditions.hash(&mut hasher);
        hasher.finish()
    }
}
