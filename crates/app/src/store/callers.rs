//! Who came, written down for after a reboot.

use super::file::replace_private;
use super::home::{Home, read};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::io::{self, ErrorKind};
use std::path::PathBuf;
use std::time::Duration;
use tipstaff_linux::ruleset::Callers;

/// A full record takes about a quarter of this.
const LARGEST: u64 = 64 * 1024 * 1024;

/// What was written down.
#[derive(Serialize, Deserialize)]
struct Written {
    /// When (RFC 3339).
    saved: String,
    callers: Callers,
}

fn path(home: &Home) -> PathBuf {
    home.folder.join("callers.json")
}

/// Writes it down.
///
/// # Errors
/// The system's.
pub fn save_callers(home: &Home, callers: &Callers) -> io::Result<()> {
    let written = Written { saved: Timestamp::now().to_string(), callers: callers.clone() };
    let bytes = serde_json::to_vec(&written).map_err(io::Error::other)?;
    replace_private(&path(home), &bytes)
}

/// What was written down, each entry as much older as it is since, by the machine's clock; `None` if nothing was.
///
/// # Errors
/// Why it cannot be read: then there is something.
pub fn saved_callers(home: &Home) -> Result<Option<Callers>, String> {
    let path = path(home);
    let bytes = match read(&path, LARGEST) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(error.to_string()),
    };
    let written: Written =
        serde_json::from_slice(&bytes).map_err(|error| format!("{}: {error}", path.display()))?;
    let saved: Timestamp =
        written.saved.parse().map_err(|_| format!("{}: `saved` is no time", path.display()))?;
    // A clock that was set back makes nothing younger.
    let since = Timestamp::now().duration_since(saved).as_millis();
    let since = u64::try_from(since).unwrap_or(0);
    let mut callers = written.callers;
    for caller in &mut callers.list {
        caller.first = caller.first.map(|it| it.saturating_add(since));
        caller.last = caller.last.saturating_add(since);
    }
    Ok(Some(callers))
}

/// How long ago it was written down; `None` if it was not, or that is not known.
pub fn callers_saved_ago(home: &Home) -> Option<Duration> {
    path(home).metadata().ok()?.modified().ok()?.elapsed().ok()
}
