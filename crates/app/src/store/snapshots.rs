//! Where it is kept what places held: beside the policy, so that whoever can read that can read this, and both can be
//! copied, compared and put under version control together.

use crate::Failure;
use std::fs::{self, DirBuilder};
use std::io::ErrorKind;
use std::os::unix::fs::{DirBuilderExt, MetadataExt};
use std::path::{Path, PathBuf};
use tipstaff_core::policy::Time;

/// So the names of its files end.
const ENDING: &str = ".snapshot";

/// The folder: `policy.places` beside `policy.toml`, or `places` in the folder of a policy of several files.
pub(crate) fn folder(policy: &Path) -> PathBuf {
    if policy.is_dir() { policy.join("places") } else { policy.with_extension("places") }
}

/// The file of a place.
pub(crate) fn file(policy: &Path, place: &str) -> PathBuf {
    folder(policy).join(format!("{place}{ENDING}"))
}

/// The places of which something is kept, with the files, in the order of their names.
///
/// # Errors
/// [`Failure`] if the folder cannot be read.
pub(crate) fn kept(policy: &Path) -> Result<Vec<(String, PathBuf)>, Failure> {
    let folder = folder(policy);
    let failed = |error: std::io::Error| {
        let message = format!("cannot read what places held, in {}: {error}", folder.display());
        Failure::usage(message, "check that you may read it")
    };
    let files = match fs::read_dir(&folder) {
        Ok(files) => files,
        Err(error) if matches!(error.kind(), ErrorKind::NotFound | ErrorKind::NotADirectory) => {
            return Ok(Vec::new());
        }
        Err(error) => return Err(failed(error)),
    };
    let mut found = Vec::new();
    for file in files {
        let path = file.map_err(failed)?.path();
        let name = path.file_name().and_then(|it| it.to_str()).unwrap_or_default();
        // What was being written when somebody was killed begins with a dot.
        if let Some(place) = name.strip_suffix(ENDING).filter(|it| !it.starts_with('.')) {
            found.push((place.to_owned(), path.clone()));
        }
    }
    found.sort();
    Ok(found)
}

/// Makes the folder, if it is not there: readable for whoever may read the policy.
///
/// # Errors
/// [`Failure`] if it cannot be made.
pub(crate) fn make(policy: &Path) -> Result<(), Failure> {
    let folder = folder(policy);
    let mode = fs::metadata(policy).map_or(0o600, |it| it.mode());
    // Whoever may read a file may enter its folder.
    let enter = (mode & 0o444) >> 2;
    let made = DirBuilder::new().mode(0o700 | ((mode & 0o044) | (enter & 0o011))).create(&folder);
    match made {
        Err(error) if error.kind() != ErrorKind::AlreadyExists => Err(Failure::System {
            message: format!("cannot make {}: {error}", folder.display()),
            help: vec![
                "what places held is kept there, beside the policy".into(),
                "nothing was changed".into(),
            ],
        }),
        _ => Ok(()),
    }
}

/// When the files of a place were read last.
pub(crate) fn read_at(policy: &Path, place: &str) -> Option<Time> {
    let seconds = fs::metadata(file(policy, place)).ok()?.mtime();
    Some(Time::from_seconds(seconds))
}
