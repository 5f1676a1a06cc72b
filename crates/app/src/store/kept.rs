//! Policies as they were enforced, each under the digest of what it says.

use super::entry::Entry;
use super::file::replace_private;
use super::home::{Home, read};
use super::sum;
use crate::Failure;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use std::fs::{self, DirBuilder};
use std::io;
use std::os::unix::fs::DirBuilderExt;
use std::path::PathBuf;
use tipstaff_core::policy::Source;

const FOLDER: &str = "policies";
const ENDING: &str = ".json";
/// A policy has at most 256 MiB; written down, each of its bytes may need several.
const LARGEST: u64 = 2 * 1024 * 1024 * 1024;

/// A policy as it is kept.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Guarded {
    /// The host that it was enforced for.
    pub host: String,
    /// The names and texts of its files.
    pub files: Vec<(String, String)>,
}

/// Makes the folder in which policies are kept.
pub(super) fn make(home: &Home) -> io::Result<()> {
    DirBuilder::new().recursive(true).mode(0o700).create(home.folder.join(FOLDER))
}

fn path(home: &Home, digest: &str) -> PathBuf {
    home.folder.join(FOLDER).join(format!("{digest}{ENDING}"))
}

/// Keeps a policy under the digest of what it says, and gives that. One that is there already but
/// damaged is written anew.
pub(super) fn keep(home: &Home, host: &str, sources: &[Source]) -> io::Result<String> {
    let (digest, bytes) = digest(host, sources);
    let path = path(home, &digest);
    let whole = read(&path, LARGEST).is_ok_and(|held| held == bytes);
    if !whole {
        if fs::symlink_metadata(&path).is_ok_and(|it| it.is_dir()) {
            fs::remove_dir_all(&path)?;
        }
        replace_private(&path, &bytes)?;
    }
    Ok(digest)
}

/// Removes all but those.
pub(crate) fn keep_only(home: &Home, used: &BTreeSet<&str>) -> io::Result<()> {
    for file in fs::read_dir(home.folder.join(FOLDER))?.flatten() {
        let name = file.file_name();
        let digest = name.to_string_lossy().trim_end_matches(ENDING).to_owned();
        if !used.contains(digest.as_str()) {
            fs::remove_file(file.path())?;
        }
    }
    Ok(())
}

/// The digests of all that are there, damaged or not, the newest first.
pub fn all(home: &Home) -> Vec<String> {
    let mut found: Vec<_> = fs::read_dir(home.folder.join(FOLDER))
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|file| {
            let time = file.metadata().and_then(|it| it.modified()).ok();
            let name = file.file_name().into_string().ok()?;
            Some((time, name.strip_suffix(ENDING)?.to_owned()))
        })
        .collect();
    found.sort();
    found.into_iter().rev().map(|it| it.1).collect()
}

/// The policy of a digest, as it was.
///
/// # Errors
/// Why it cannot be had, as the end of a sentence.
pub(crate) fn by_digest(home: &Home, digest: &str) -> Result<Guarded, String> {
    // Nothing but a digest leads to a file.
    if digest.len() != 64 || !digest.bytes().all(|it| it.is_ascii_hexdigit()) {
        return Err("has no digest".into());
    }
    let bytes = read(&path(home, digest), LARGEST).map_err(|error| match error.kind() {
        io::ErrorKind::NotFound => "is not kept any more".to_owned(),
        _ => format!("cannot be read: {error}"),
    })?;
    if sum(&bytes) != digest {
        return Err("is not what it was: its file was changed".into());
    }
    serde_json::from_slice(&bytes).map_err(|_| "cannot be read".into())
}

/// The policy of an entry, as it was.
///
/// # Errors
/// [`Failure`] if it is not there any more, or not what it was.
pub fn policy(home: &Home, entry: &Entry) -> Result<Guarded, Failure> {
    let found = match &entry.policy {
        Some(digest) => by_digest(home, digest),
        None => Err("was never there".into()),
    };
    found.map_err(|why| Failure::System {
        message: format!("the policy of entry {} {why}", entry.id),
        help: vec!["choose another entry; `tipstaff docket` lists them".into()],
    })
}

/// The digest of a policy for a host, and what it is the digest of.
pub fn digest(host: &str, sources: &[Source]) -> (String, Vec<u8>) {
    let files = sources.iter().map(|it| (it.name.to_string(), it.text.to_string())).collect();
    let bytes = serde_json::to_vec(&Guarded { host: host.to_owned(), files }).unwrap_or_default();
    (sum(&bytes), bytes)
}
