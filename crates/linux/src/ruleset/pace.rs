//! How often: a rate of the policy as the kernel's limiters have it.

use tipstaff_core::policy::Rate;
use tipstaff_wire::nf_tables::Limit;

/// Limiters are remembered at least this long, in milliseconds, so that their set is not made anew all the time.
const SHORTEST_MEMORY: u64 = 10_000;
/// The kernel counts in nanoseconds; this is some thirty years.
const LONGEST_MEMORY: u64 = 1_000_000_000_000;

pub(super) fn limit(rate: Rate) -> Limit {
    Limit {
        rate: rate.count.into(),
        unit: rate.seconds.into(),
        burst: rate.burst,
        kind: 0,
        flags: 0,
    }
}

/// The time in milliseconds after which an idle sender's bucket is full again, so that it can be
/// forgotten without giving it more than the rate.
pub(super) fn refill_time(rate: Rate) -> u64 {
    let time = u64::from(rate.burst) * u64::from(rate.seconds) * 1_000 / u64::from(rate.count);
    (time + 1_000).clamp(SHORTEST_MEMORY, LONGEST_MEMORY)
}
