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
use std::path::{Path, PathBuf};
use tipstaff_core::policy::Source;

const FOLDER: &str = "policies";
const ENDING: &str = ".json";
/// So end the names of files with what a place held.
const OF_PLACE: &str = ".place";
/// Of so many policies, the last, what their places held is kept: it may be large, and there may be one every hour.
const LAST: usize = 8;
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
    /// What its places held that come from files.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub places: Vec<KeptPlace>,
    /// The texts of those, which are kept beside it.
    #[serde(skip)]
    texts: Vec<Source>,
}

/// What a place held, as it is kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct KeptPlace {
    /// The name of the place.
    pub place: String,
    /// The name of the file that said it.
    pub file: String,
    /// The digest by which its text is kept.
    pub digest: String,
}

impl Guarded {
    /// What its places held, as it is handed over: the place, the name of the file, and the text.
    pub(crate) fn texts(&self) -> Vec<(String, String, String)> {
        let place = |it: &Source| it.place.as_deref().unwrap_or_default().to_owned();
        let parts = |it: &Source| (place(it), it.name.to_string(), it.text.to_string());
        self.texts.iter().map(parts).collect()
    }

    /// The same policy with those texts, which were handed over beside it.
    pub(crate) fn with_texts(mut self, texts: &[(String, String, String)]) -> Self {
        let source = |it: &(String, String, String)| Source::of_place(&it.0, &it.1, &it.2);
        self.texts = texts.iter().map(source).collect();
        self
    }

    /// Everything that it was read from.
    pub fn sources(&self) -> Vec<Source> {
        let files = self.files.iter().map(|(name, text)| Source::new(name, text));
        files.chain(self.texts.iter().cloned()).collect()
    }
}

/// Makes the folder in which policies are kept.
pub(super) fn make(home: &Home) -> io::Result<()> {
    DirBuilder::new().recursive(true).mode(0o700).create(home.folder.join(FOLDER))
}

fn path(home: &Home, digest: &str) -> PathBuf {
    home.folder.join(FOLDER).join(format!("{digest}{ENDING}"))
}

fn path_of_place(home: &Home, digest: &str) -> PathBuf {
    home.folder.join(FOLDER).join(format!("{digest}{OF_PLACE}"))
}

/// Keeps a policy under the digest of what it says, and gives that. One that is there already but
/// damaged is written anew.
pub(super) fn keep(home: &Home, host: &str, sources: &[Source]) -> io::Result<String> {
    let (digest, bytes) = digest(host, sources);
    for source in sources.iter().filter(|it| it.place.is_some()) {
        put(&path_of_place(home, &sum(source.text.as_bytes())), source.text.as_bytes())?;
    }
    put(&path(home, &digest), &bytes)?;
    Ok(digest)
}

fn put(path: &Path, bytes: &[u8]) -> io::Result<()> {
    if read(path, LARGEST).is_ok_and(|held| held == bytes) {
        return Ok(());
    }
    if fs::symlink_metadata(path).is_ok_and(|it| it.is_dir()) {
        fs::remove_dir_all(path)?;
    }
    replace_private(path, bytes)
}

/// Forgets what places held, but for the last few policies and those that are `needed`.
pub(super) fn forget_places(home: &Home, needed: &[&str]) -> io::Result<()> {
    let all = all(home);
    let last = all.iter().take(LAST).map(String::as_str).chain(needed.iter().copied());
    let mut used = BTreeSet::new();
    for digest in last {
        match guarded(home, digest) {
            Ok(policy) => used.extend(policy.places.into_iter().map(|it| it.digest)),
            // What one that cannot be read needs is not known.
            Err(_) => return Ok(()),
        }
    }
    for file in fs::read_dir(home.folder.join(FOLDER))?.flatten() {
        let name = file.file_name();
        let name = name.to_string_lossy();
        if name.strip_suffix(OF_PLACE).is_some_and(|it| !used.contains(it)) {
            fs::remove_file(file.path())?;
        }
    }
    Ok(())
}

/// Removes all but those.
pub(crate) fn keep_only(home: &Home, used: &BTreeSet<&str>) -> io::Result<()> {
    for file in fs::read_dir(home.folder.join(FOLDER))?.flatten() {
        let name = file.file_name();
        let digest = name.to_string_lossy().trim_end_matches(ENDING).to_owned();
        if !used.contains(digest.as_str()) && !digest.ends_with(OF_PLACE) {
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
    let mut policy = guarded(home, digest)?;
    for kept in &policy.places {
        let of_place = |why: &str| format!("{why}: what the place `{}` held", kept.place);
        if !is_digest(&kept.digest) {
            return Err(of_place("has no digest"));
        }
        let bytes = match read(&path_of_place(home, &kept.digest), LARGEST) {
            Ok(bytes) => bytes,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Err(of_place("is not kept any more"));
            }
            Err(error) => return Err(of_place(&format!("cannot be read ({error})"))),
        };
        let text = String::from_utf8(bytes).ok().filter(|it| sum(it.as_bytes()) == kept.digest);
        let text = text.ok_or_else(|| of_place("is not what it was"))?;
        policy.texts.push(Source::of_place(&kept.place, &kept.file, &text));
    }
    Ok(policy)
}

/// What is damaged of a policy that is kept, as the end of a sentence. That what its places held is not kept any more is
/// no damage.
pub(crate) fn damage(home: &Home, digest: &str) -> Option<String> {
    let policy = match guarded(home, digest) {
        Ok(policy) => policy,
        Err(why) => return Some(why),
    };
    let broken = |kept: &KeptPlace| {
        let bytes = match read(&path_of_place(home, &kept.digest), LARGEST) {
            Ok(bytes) => bytes,
            Err(error) => return error.kind() != io::ErrorKind::NotFound,
        };
        sum(&bytes) != kept.digest
    };
    let found = policy.places.iter().find(|it| !is_digest(&it.digest) || broken(it))?;
    Some(format!("is damaged: what the place `{}` held", found.place))
}

/// Nothing but a digest leads to a file.
fn is_digest(text: &str) -> bool {
    text.len() == 64 && text.bytes().all(|it| it.is_ascii_hexdigit())
}

/// The policy of a digest, without what its places held.
fn guarded(home: &Home, digest: &str) -> Result<Guarded, String> {
    if !is_digest(digest) {
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
    let files = sources.iter().filter(|it| it.place.is_none());
    let files = files.map(|it| (it.name.to_string(), it.text.to_string())).collect();
    let of_place = |it: &Source| {
        let place = it.place.as_ref()?.to_string();
        let digest = sum(it.text.as_bytes());
        Some(KeptPlace { place, file: it.name.to_string(), digest })
    };
    let places = sources.iter().filter_map(of_place).collect();
    let policy = Guarded { host: host.to_owned(), files, places, texts: Vec::new() };
    let bytes = serde_json::to_vec(&policy).unwrap_or_default();
    (sum(&bytes), bytes)
}
