//! To which rules a policy was worked out last: a note that saves work, and nothing else. Where it is lost or cannot be
//! read, the work is done again.

use super::entry::{line, value};
use super::home::{Home, read};
use serde::{Deserialize, Serialize};
use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;

const FILE: &str = "worked-out.json";
const LARGEST: u64 = 64 * 1024;

/// What was worked out from what.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct WorkedOut {
    /// The digest of all that it was worked out from, and of the program that did it.
    pub from: String,
    /// The digest of the rules.
    pub rules: String,
}

impl WorkedOut {
    /// What is noted; `None` if nothing is that can be read and trusted.
    pub(crate) fn read(home: &Home) -> Option<Self> {
        home.trusted().ok()?;
        let bytes = read(&home.folder.join(FILE), LARGEST).ok()?;
        serde_json::from_value(value(&bytes).ok()?).ok()
    }

    /// Notes it. A half-written note is none: its sum does not fit.
    ///
    /// # Errors
    /// The system's; then nothing is noted.
    pub(crate) fn write(&self, home: &Home) -> io::Result<()> {
        let path = home.folder.join(FILE);
        let draft = path.with_extension("new");
        let _ = fs::remove_file(&draft);
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&draft)?;
        let written = file.write_all(&line(self)).and_then(|()| fs::rename(&draft, &path));
        if written.is_err() {
            let _ = fs::remove_file(&draft);
        }
        written
    }
}
