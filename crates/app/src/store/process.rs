//! Processes, as they are written down.

use serde::{Deserialize, Serialize};
use std::fs;

/// A process, told from a later one of the same number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Watcher {
    /// The number of the process.
    pub pid: u32,
    /// When it was started, in the kernel's ticks since boot.
    pub started: u64,
}

impl Watcher {
    /// The process of that number that runs now.
    pub fn of(pid: u32) -> Option<Self> {
        Some(Self { pid, started: started(pid)? })
    }

    /// Whether it still runs.
    pub fn lives(self) -> bool {
        started(self.pid) == Some(self.started)
    }
}

/// When a process was started, if it has not ended.
///
/// # References
/// proc(5), `/proc/pid/stat`: the state is the third word, the start the 22nd.
pub fn started(pid: u32) -> Option<u64> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The name in parentheses may hold anything.
    let mut words = stat.rsplit(')').next()?.split_whitespace();
    let ended = matches!(words.next()?, "Z" | "X");
    words.nth(18)?.parse().ok().filter(|_| !ended)
}
