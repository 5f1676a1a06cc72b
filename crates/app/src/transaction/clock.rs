//! Time, as transactions need it.

use jiff::Timestamp;
use rustix::time::{ClockId, clock_gettime};
use std::time::Duration;

/// The moment, as it is written down (RFC 3339).
pub(super) fn now() -> String {
    Timestamp::from_second(Timestamp::now().as_second())
        .map_or_else(|_| String::new(), |it| it.to_string())
}

/// Milliseconds since boot, by a clock that cannot be set.
pub(crate) fn since_boot() -> u64 {
    let time = clock_gettime(ClockId::Boottime);
    let part = |value: i64| u64::try_from(value).unwrap_or_default();
    part(time.tv_sec) * 1_000 + part(time.tv_nsec) / 1_000_000
}

/// When a change goes that waits this long.
pub(super) fn deadline(within: Duration) -> u64 {
    since_boot() + u64::try_from(within.as_millis()).unwrap_or(u64::MAX / 2)
}
