//! The highest number of a fleet's sealed bundles that this host has seen: kept in two places, so that a folder that is
//! brought back from a copy does not make it forget.

use super::entry::{line, value};
use super::file::replace_private;
use super::home::{Home, broken, read};
use crate::Failure;
use serde::{Deserialize, Serialize};
use std::fs::DirBuilder;
use std::io::{self, ErrorKind};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};

const FILE: &str = "fleet-seen.json";
const LARGEST: u64 = 1024 * 1024;

/// What this host has seen of a fleet.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Seen {
    /// The name of the fleet.
    pub fleet: String,
    /// The highest number.
    pub sequence: u64,
    /// The digest of the one that has it: SHA-256, in hexadecimal digits.
    pub sha256: String,
}

impl Seen {
    /// What was seen of that fleet; the higher of what both places say.
    ///
    /// # Errors
    /// [`Failure`] if one cannot be read and the other does not say it: that is not to have seen nothing.
    pub fn read(home: &Home, fleet: &str) -> Result<Option<Self>, Failure> {
        let (mut best, mut trouble): (Option<Self>, _) = (None, None);
        for place in places(home) {
            match lines(&place) {
                Ok(lines) => {
                    let here = lines.into_iter().filter(|it| it.fleet == fleet);
                    best = here.chain(best).max_by_key(|it| it.sequence);
                }
                Err(error) => trouble = Some((place, error)),
            }
        }
        match (best, trouble) {
            (None, Some((place, error))) => Err(Failure::System {
                message: format!("what this host has seen of the fleet cannot be read: {error}"),
                help: vec![format!(
                    "an older policy could be taken for a new one, so none is taken; look at {}, and remove it if \
                     you are sure",
                    place.display()
                )],
            }),
            (best, _) => Ok(best),
        }
    }

    /// Keeps it in both places, unless they say it already.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be kept.
    pub fn write(&self, home: &Home) -> Result<(), Failure> {
        for place in places(home) {
            self.write_at(&place).map_err(|error| {
                broken("keep what was seen of the fleet", place.parent().unwrap_or(&place), &error)
            })?;
        }
        Ok(())
    }

    fn write_at(&self, place: &Path) -> io::Result<()> {
        let mut all = lines(place).unwrap_or_default();
        if all.contains(self) {
            return Ok(());
        }
        all.retain(|it| it.fleet != self.fleet);
        all.push(self.clone());
        if let Some(folder) = place.parent() {
            DirBuilder::new().recursive(true).mode(0o755).create(folder)?;
        }
        replace_private(place, &all.iter().flat_map(line).collect::<Vec<u8>>())
    }
}

/// Where it is kept: with the docket, and beside the note of a boot.
fn places(home: &Home) -> impl Iterator<Item = PathBuf> {
    let beside = home.note.as_ref().and_then(|it| {
        let stem = it.file_stem()?.to_str()?;
        Some(it.with_file_name(format!("{stem}.{FILE}")))
    });
    [home.folder.join(FILE)].into_iter().chain(beside)
}

/// What a place says; nothing where there is none.
fn lines(place: &Path) -> io::Result<Vec<Seen>> {
    let bytes = match read(place, LARGEST) {
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Vec::new()),
        bytes => bytes?,
    };
    let damaged = || {
        io::Error::new(
            ErrorKind::InvalidData,
            format!("{} is not what was written", place.display()),
        )
    };
    let lines = bytes.split(|&byte| byte == b'\n').filter(|it| !it.is_empty());
    let read = |line| serde_json::from_value(value(line).ok()?).ok();
    let lines: Option<Vec<Seen>> = lines.map(read).collect();
    lines.filter(|it| !it.is_empty()).ok_or_else(damaged)
}
