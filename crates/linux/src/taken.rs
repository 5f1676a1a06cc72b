//! Whether anybody takes the reports of our rules.

use crate::LinuxError;
use crate::ruleset::LOG_GROUP;
use std::fs;

/// Who takes what is reported, a line each, the group's number first; of the network namespace that this thread is in.
const LIST: &str = "/proc/thread-self/net/netfilter/nfnetlink_log";

/// Whether anybody takes the reports of our rules in this network namespace.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us look.
pub(crate) fn reports_are_taken() -> Result<bool, LinuxError> {
    let text = fs::read_to_string(LIST)
        .map_err(|error| LinuxError::system("see who takes reports", error))?;
    let group = |line: &str| line.split_whitespace().next()?.parse::<u16>().ok();
    Ok(text.lines().any(|line| group(line) == Some(LOG_GROUP)))
}
