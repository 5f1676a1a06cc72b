//! Not all hosts at the same moment.

use std::hash::{BuildHasher, Hasher, RandomState};
use std::time::Duration;

/// Up to a quarter of it, by chance: not all hosts at the same moment.
pub(super) fn spread(most: Duration) -> Duration {
    let chance = RandomState::new().build_hasher().finish();
    most.mul_f64(0.25 * (chance % 1_000) as f64 / 1_000.0)
}
