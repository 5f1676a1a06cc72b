//! What listened when somebody looked last.

use super::file::replace_private;
use super::home::{Home, read};
use serde::{Deserialize, Serialize};
use std::io::{self, ErrorKind};
use std::path::PathBuf;

const LARGEST: u64 = 16 * 1024 * 1024;
/// So many are kept.
const MOST: usize = 4_096;

/// Something that listened once.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Heard {
    /// Whose it is: the path of a program, or a user.
    pub whose: String,
    /// Where it listens, as a traffic term.
    pub traffic: String,
    /// Since when that is known (RFC 3339).
    pub since: String,
    /// Whether somebody has said that he knows.
    pub known: bool,
}

fn path(home: &Home) -> PathBuf {
    home.folder.join("listening.json")
}

/// What listened; `None` if nobody has looked yet.
///
/// # Errors
/// Why it cannot be read: then there is something.
pub(crate) fn heard(home: &Home) -> Result<Option<Vec<Heard>>, String> {
    let path = path(home);
    let bytes = match read(&path, LARGEST) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(format!("{}: {error}", path.display())),
    };
    serde_json::from_slice(&bytes).map(Some).map_err(|error| format!("{}: {error}", path.display()))
}

/// Writes it down. Of more than can be kept, the oldest of those go first that do not listen any more.
///
/// # Errors
/// The system's.
pub(crate) fn write_heard(
    home: &Home,
    list: &mut Vec<Heard>,
    listens: impl Fn(&Heard) -> bool,
) -> io::Result<()> {
    home.make()?;
    let mut over = list.len().saturating_sub(MOST);
    list.retain(|it| {
        let goes = over > 0 && !listens(it);
        over -= usize::from(goes);
        !goes
    });
    list.truncate(MOST);
    replace_private(&path(home), &serde_json::to_vec(list).map_err(io::Error::other)?)
}
