//! What a boot needs without the docket: that a policy was confirmed, and what of it must stay
//! reachable. It lies apart from the docket, so that both are not lost at once, and says the same
//! twice, so that one damaged byte takes nothing.

use super::entry::{Entry, Kind, line, value};
use super::file::replace_private;
use super::home::{Home, read};
use super::posture::Situation;
use serde::{Deserialize, Serialize};
use std::fs::{self, DirBuilder};
use std::io::{self, ErrorKind};
use std::os::unix::fs::DirBuilderExt;

const LARGEST: u64 = 1024 * 1024;

/// What was confirmed last.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Note {
    /// The host of the policy.
    pub host: String,
    /// The number of the docket's entry that it speaks of.
    pub entry: u64,
    /// The digest of its policy; `None` if the rules were taken out.
    pub policy: Option<String>,
    /// Whether its rules for programs were left out.
    pub without_programs: bool,
    /// Where the remote shell listens, as traffic terms.
    pub shell: Vec<String>,
    /// Whether everything is to pass if it cannot be loaded.
    pub open_on_failure: bool,
    /// When it was enforced (RFC 3339).
    #[serde(default)]
    pub time: Option<String>,
    /// The posture that it is in.
    #[serde(default, skip_serializing_if = "is_nothing")]
    pub situation: Situation,
}

/// Notes of before there were postures say nothing of one.
fn is_nothing(situation: &Situation) -> bool {
    *situation == Situation::default()
}

/// The entry that was confirmed: what was loaded at boot is what was confirmed before.
pub fn origin(entry: &Entry) -> u64 {
    entry.of.filter(|_| entry.kind == Kind::Boot).unwrap_or(entry.id)
}

impl Note {
    /// What is to be noted of an entry that was confirmed.
    pub fn of(entry: &Entry) -> Self {
        Self {
            host: entry.host.clone().unwrap_or_default(),
            entry: origin(entry),
            policy: entry.policy.clone().filter(|_| entry.kind != Kind::Release),
            without_programs: entry.without_programs,
            shell: entry.shell.clone(),
            open_on_failure: entry.open_on_failure,
            time: Some(entry.time.clone()).filter(|_| entry.kind != Kind::Boot),
            situation: entry.situation(),
        }
    }

    /// Reads the note; `None` if there is none.
    ///
    /// # Errors
    /// Why it cannot be read: then there was one.
    pub fn read(home: &Home) -> Result<Option<Self>, String> {
        let Some(path) = &home.note else { return Ok(None) };
        let bytes = match read(path, LARGEST) {
            Ok(bytes) => bytes,
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(error.to_string()),
        };
        let lines = bytes.split(|&byte| byte == b'\n');
        let read = |line: &[u8]| serde_json::from_value(value(line).ok()?).ok();
        let found = lines.filter(|line| !line.is_empty()).find_map(read);
        found.map(Some).ok_or_else(|| format!("{} cannot be read", path.display()))
    }

    /// Writes the note, if it says anything new.
    ///
    /// # Errors
    /// The system's.
    pub fn write(&self, home: &Home) -> io::Result<()> {
        let Some(path) = &home.note else { return Ok(()) };
        let once = line(self);
        let twice = [&once[..], &once[..]].concat();
        if fs::read(path).is_ok_and(|held| held == twice) {
            return Ok(());
        }
        if let Some(folder) = path.parent() {
            DirBuilder::new().recursive(true).mode(0o755).create(folder)?;
        }
        replace_private(path, &twice)
    }
}
