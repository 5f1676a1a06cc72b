//! What a policy was before it was changed, beside it: so that a change can be taken back.

use super::file::replace_like;
use super::sum;
use crate::Failure;
use jiff::Timestamp;
use rustix::fs::OFlags;
use rustix::process::geteuid;
use serde::{Deserialize, Serialize};
use std::fs::{self, OpenOptions};
use std::io::{ErrorKind, Read};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

/// So many changes can be taken back.
const MOST: usize = 50;
/// So many bytes are kept for that, the newest change aside.
const LARGEST: usize = 16 << 20;
/// A link is not followed.
const NOFOLLOW: i32 = OFlags::NOFOLLOW.bits().cast_signed();
/// What the file's name ends in.
const ENDING: &str = ".undo";

/// A file that was changed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Was {
    /// Its name, without its folder.
    pub file: String,
    /// What was in it before; nothing if there was no such file.
    pub before: Option<String>,
    /// The digest of what was in it afterwards; nothing if it was gone.
    after: Option<String>,
}

impl Was {
    /// A file that is about to be changed.
    pub fn of(file: &Path, before: Option<&str>, after: Option<&str>) -> Self {
        Self {
            file: name_of(file),
            before: before.map(str::to_owned),
            after: after.map(|it| sum(it.as_bytes())),
        }
    }

    /// Whether what was done left the file as it is now.
    pub fn led_to(&self, text: Option<&str>) -> bool {
        self.after == text.map(|it| sum(it.as_bytes()))
    }
}

/// A change that can be taken back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// What was done, in words.
    pub done: String,
    /// When (RFC 3339).
    pub time: String,
    /// The files that were changed.
    pub files: Vec<Was>,
}

impl Change {
    /// A change that is about to be made.
    pub fn now(done: &str, files: Vec<Was>) -> Self {
        let time = Timestamp::from_second(Timestamp::now().as_second());
        let time = time.map_or_else(|_| String::new(), |it| it.to_string());
        Self { done: done.to_owned(), time, files }
    }
}

/// The name of a file without its folder.
pub fn name_of(file: &Path) -> String {
    file.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

/// Where the changes of the policy at `path` are kept.
fn place(path: &Path) -> PathBuf {
    let path = fs::canonicalize(path).unwrap_or_else(|_| path.to_owned());
    match path.is_dir() {
        true => path.join(ENDING),
        false => path.with_file_name(format!(".{}{ENDING}", name_of(&path))),
    }
}

/// The changes of the policy at `path` that can be taken back, oldest first.
///
/// # Errors
/// [`Failure`] if they cannot be read.
pub fn changes(path: &Path) -> Result<Vec<Change>, Failure> {
    let place = place(path);
    let failed = |why: String| Failure::System {
        message: format!("cannot read {}: {why}", place.display()),
        help: vec!["it holds what the policy was; without it nothing can be taken back".into()],
    };
    let mut file = match OpenOptions::new().read(true).custom_flags(NOFOLLOW).open(&place) {
        Ok(file) => file,
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(failed(error.to_string())),
    };
    // Whoever could write it could have a policy of theirs taken for a former one.
    let known = file.metadata().map_err(|error| failed(error.to_string()))?;
    let policy = fs::metadata(path).map_err(|error| failed(error.to_string()))?;
    let by_others = known.mode() & !policy.mode() & 0o022 != 0;
    if by_others || ![0, geteuid().as_raw(), policy.uid()].contains(&known.uid()) {
        return Err(failed("others than who may write the policy could have filled it".into()));
    }
    let mut text = String::new();
    file.read_to_string(&mut text).map_err(|error| failed(error.to_string()))?;
    let lines = text.lines().map(serde_json::from_str);
    lines.collect::<Result<_, _>>().map_err(|error| failed(error.to_string()))
}

/// Keeps these changes, the oldest of them only as far as there is room.
///
/// # Errors
/// [`Failure`] if they cannot be written.
pub fn keep(path: &Path, changes: &[Change]) -> Result<(), Failure> {
    let mut lines = Vec::new();
    let mut bytes = 0;
    for change in changes.iter().rev().take(MOST) {
        let line = serde_json::to_string(change).unwrap_or_default();
        bytes += line.len();
        if bytes > LARGEST && !lines.is_empty() {
            break;
        }
        lines.push(line);
    }
    lines.reverse();
    let text: String = lines.iter().flat_map(|line| [line.as_str(), "\n"]).collect();
    replace_like(&place(path), text.as_bytes(), path)
}
