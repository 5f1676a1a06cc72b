//! How much memory a boot needs to load a policy.

use crate::{Failure, Loaded};
use std::fs;
use tipstaff_linux::ruleset;

/// A boot is promised to need no more than this, in MiB, unless more is allowed.
pub const FOR_A_BOOT: u64 = 256;

const MIB: u64 = 1024 * 1024;
/// A policy that took less than this part of the limit to be read needs no closer look: what the kernel is told of it
/// is smaller, and counts few times.
const CLEARLY_LESS: u64 = 4;
/// What every boot takes beside that, in bytes.
const STEADY: u64 = 6 * MIB;
/// To work out what the kernel is told, to tell it, and to take its answer apart takes so many bytes for each that it is
/// told; measured for lists of 1,000 to 20,000 rules (up to 2.7), and rounded up.
const FOLDED: u64 = 4;
/// Besides for each element of a set; measured for places of 220,000 addresses, and rounded up.
const ELEMENT: u64 = 300;

/// Refuses a policy with which a boot would need more than `limit` MiB: it does what this process has done
/// until now, tells the kernel, and reads it back.
///
/// # Errors
/// [`Failure::Usage`], if it would.
pub(crate) fn must_suffice(policy: &Loaded, limit: u64) -> Result<(), Failure> {
    let Some(taken) = taken() else { return Ok(()) };
    if taken < limit * MIB / CLEARLY_LESS {
        return Ok(());
    }
    // What cannot be told is refused where it is, a little later.
    let Ok(told) = ruleset::size(policy.program(), &policy.plan.host) else { return Ok(()) };
    let wide = |it: usize| u64::try_from(it).unwrap_or(u64::MAX);
    let folded = wide(told.bytes).saturating_mul(FOLDED);
    let folded = folded.saturating_add(wide(told.elements).saturating_mul(ELEMENT));
    let needed = taken.saturating_add(STEADY).saturating_add(folded).div_ceil(MIB);
    if needed <= limit {
        return Ok(());
    }
    Err(Failure::usage(
        format!(
            "a boot would need some {needed} MiB of memory to load this policy, more than the {limit} that it \
             may take; nothing was changed"
        ),
        format!(
            "where the machine has so much to spare: --boot-memory {}; where not, it would end with nothing \
             but the remote shell open",
            needed.next_multiple_of(64)
        ),
    ))
}

/// The most memory that this process has had, in bytes.
fn taken() -> Option<u64> {
    let status = fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find_map(|it| it.strip_prefix("VmHWM:"))?;
    Some(line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok()? * 1024)
}
