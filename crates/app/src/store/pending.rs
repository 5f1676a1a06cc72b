//! The change that waits to be confirmed.

use super::entry::{line, value};
use super::file::replace_private;
use super::home::{Home, broken, read};
use super::process::Watcher;
use crate::Failure;
use serde::{Deserialize, Serialize};
use std::fs::{self, File};
use std::io::ErrorKind;

const FILE: &str = "pending.json";
const LARGEST: u64 = 64 * 1024;

/// A change that goes by itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Pending {
    /// The number of the entry that waits.
    pub id: u64,
    /// When it goes, in milliseconds of the clock that counts from boot and cannot be set.
    pub deadline: u64,
    /// The boot in which that is.
    pub boot: String,
    /// The entry to go back to; if there is none, what was in force before.
    pub back_to: Option<u64>,
    /// Whether rules of ours were in force before. If none were, the way back takes them out.
    #[serde(default)]
    pub held: bool,
    /// Where the remote shell listens: what stays open if nothing else is known any more.
    #[serde(default)]
    pub shell: Vec<String>,
    /// When it was made, by that clock; 0 in a file of before that was written.
    #[serde(default)]
    pub made: u64,
    /// Who sees to it; `None` in a file of before that was written.
    #[serde(default)]
    pub watcher: Option<Watcher>,
}

/// The change that waits in this namespace. What cannot be read is not nothing.
///
/// # Errors
/// Why it cannot be read, as the end of a sentence.
pub fn pending(home: &Home) -> Result<Option<Pending>, String> {
    let path = home.folder.join(FILE);
    let bytes = match read(&path, LARGEST) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(error.to_string()),
    };
    let value = value(&bytes).map_err(|why| format!("{FILE} {why}"))?;
    serde_json::from_value(value).map(Some).map_err(|_| format!("{FILE} cannot be read"))
}

/// Notes that a change waits to be confirmed, or that none does any more.
///
/// # Errors
/// [`Failure`] if that cannot be written.
pub(crate) fn set_pending(home: &Home, pending: Option<&Pending>) -> Result<(), Failure> {
    let path = home.folder.join(FILE);
    let done = match pending {
        Some(pending) => replace_private(&path, &line(pending)),
        None => match fs::remove_file(&path) {
            Err(error) if error.kind() != ErrorKind::NotFound => Err(error),
            _ => File::open(&home.folder).and_then(|folder| folder.sync_all()),
        },
    };
    done.map_err(|error| broken("note what waits", &home.folder, &error))
}
