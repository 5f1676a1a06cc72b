//! Numbers by which it is known whether a rule still means what it meant.

use super::model::Decision;
use crate::fnv::Fnv;
use std::hash::{Hash, Hasher};

impl Decision {
    /// A number for what it takes and what it does with that: one that takes something else, or does something
    /// else, has another. How it is written does not matter.
    #[must_use]
    pub fn fingerprint(&self) -> u64 {
        let mut hasher = Fnv::default();
        self.act.hash(&mut hasher);
        self.conditions.hash(&mut hasher);
        hasher.finish()
    }
}
