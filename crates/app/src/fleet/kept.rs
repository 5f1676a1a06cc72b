//! What a host keeps of what it took: the sealed bundle itself, the folder of its policy, and what it did not take.

use super::packed::{self, Files};
use super::standing::{Has, NotTaken};
use crate::load::written;
use crate::store::{Home, private};
use crate::{Failure, load::only_ours};
use rustix::fs::{CWD, RenameFlags, renameat_with};
use serde::{Deserialize, Serialize};
use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, ErrorKind, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use tipstaff_core::policy::{Source, Time};
use tipstaff_sealed::{Content, Unsealed, digest};

const BUNDLE: &str = "fleet-taken.sealed";
/// The one that is about to take its place.
const NEXT: &str = "fleet-next.sealed";
const WORD: &str = "fleet-member.json";
const LARGEST: u64 = 320 * 1024 * 1024;

/// What a host knows of itself as a member.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Member {
    /// What it has.
    pub has: Option<Has>,
    /// What it did not take.
    pub refused: Option<NotTaken>,
}

impl Member {
    /// What is kept; nothing where nothing is.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be read.
    pub(super) fn read(home: &Home) -> Result<Self, Failure> {
        let path = home.folder.join(WORD);
        let bytes = match private(&path, LARGEST) {
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Self::default()),
            bytes => bytes.map_err(|error| unreadable(&path, &error.to_string()))?,
        };
        serde_json::from_slice(&bytes).map_err(|error| unreadable(&path, &error.to_string()))
    }

    /// Keeps it.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be written.
    pub(super) fn write(&self, home: &Home) -> Result<(), Failure> {
        let bytes = serde_json::to_vec_pretty(self).unwrap_or_default();
        crate::store::keep_private(home, WORD, &bytes)
    }
}

fn unreadable(path: &Path, why: &str) -> Failure {
    Failure::System {
        message: format!("cannot read {}: {why}", path.display()),
        help: vec![
            "what this host took of its fleet is not known; look who changed the file".into(),
        ],
    }
}

/// Whether somebody changed the policy on this machine since it was taken, or wrote one before anything was.
///
/// # Errors
/// [`Failure`] if that cannot be told.
pub(super) fn changed_here(home: &Home, policy: &Path) -> Result<bool, Failure> {
    if !policy.exists() {
        return Ok(false);
    }
    let own = match written(policy) {
        Ok(own) => own,
        // A folder without a policy.
        Err(_) if policy.is_dir() && is_bare(policy) => return Ok(false),
        Err(failure) => return Err(failure),
    };
    let name = |name: &str| name.rsplit('/').next().unwrap_or_default().to_owned();
    let own: Vec<_> = own.iter().map(|it| (name(&it.name), it.text.clone())).collect();
    for kept in [BUNDLE, NEXT] {
        let Some(content) = content(home, kept)? else { continue };
        let sealed = packed::sources(&content.policy);
        let sealed = sealed.map_err(|why| unreadable(&home.folder.join(kept), &why))?;
        let sealed = sealed.iter().filter(|it| it.place.is_none());
        if own == sealed.map(|it| (it.name.to_string(), it.text.clone())).collect::<Vec<_>>() {
            return Ok(false);
        }
    }
    Ok(true)
}

/// What is in a sealed bundle that is kept here; `None` if there is none.
fn content(home: &Home, name: &str) -> Result<Option<Content>, Failure> {
    Ok(kept(home, name)?.map(|it| it.1))
}

/// The bundle that was taken last, and what is in it; `None` if none was.
///
/// # Errors
/// [`Failure`] if it cannot be read.
pub(super) fn bundle(home: &Home) -> Result<Option<(Vec<u8>, Content)>, Failure> {
    kept(home, BUNDLE)
}

fn kept(home: &Home, name: &str) -> Result<Option<(Vec<u8>, Content)>, Failure> {
    let path = home.folder.join(name);
    let bytes = match private(&path, LARGEST) {
        Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
        bytes => bytes.map_err(|error| unreadable(&path, &error.to_string()))?,
    };
    let content = Unsealed::read(&bytes).and_then(|it| it.content());
    content.map(|it| Some((bytes, it))).map_err(|why| unreadable(&path, &why.to_string()))
}

/// The policy that was taken last, as it was sealed, and when.
pub(super) fn sealed(home: &Home, policy: &Path) -> Option<(Vec<Source>, Time)> {
    let content = content(home, BUNDLE).ok()??;
    let sources = packed::sources_at(&content.policy, policy).ok()?;
    Some((sources, Time::parse(&content.statement.sealed)?))
}

fn is_bare(folder: &Path) -> bool {
    let named = |it: io::Result<fs::DirEntry>| it.is_ok_and(|it| it.path().extension().is_some());
    fs::read_dir(folder).is_ok_and(|files| !files.into_iter().any(named))
}

/// Keeps the sealed bundle, and puts its files where the policy is, all at once.
///
/// # Errors
/// [`Failure`] if they cannot be written.
pub(super) fn put(
    home: &Home,
    policy: &Path,
    (number, bytes): (u64, &[u8]),
    files: &Files,
) -> Result<Has, Failure> {
    // Whoever is killed in between has files of the one or of the other, and both are known.
    crate::store::keep_private(home, NEXT, bytes)?;
    let failed = |error: io::Error| Failure::System {
        message: format!("cannot write {}: {error}", policy.display()),
        help: vec![
            "what was there before still is; what was taken is in force all the same".into(),
        ],
    };
    replace(policy, files).map_err(failed)?;
    let (next, taken) = (home.folder.join(NEXT), home.folder.join(BUNDLE));
    fs::rename(next, taken).and_then(|()| File::open(&home.folder)?.sync_all()).map_err(failed)?;
    Ok(Has { number, sha256: digest(bytes), since: crate::now().to_string() })
}

/// Puts a folder with those files in the place of the one that is there, which is seen whole until then.
fn replace(folder: &Path, files: &Files) -> io::Result<()> {
    let name = folder.file_name().ok_or(ErrorKind::InvalidInput)?.to_string_lossy().into_owned();
    let above = folder.parent().filter(|it| !it.as_os_str().is_empty());
    let above = above.map_or_else(|| PathBuf::from("."), Path::to_owned);
    DirBuilder::new().recursive(true).mode(0o755).create(&above)?;
    let draft = above.join(format!(".{name}.new"));
    let _ = fs::remove_dir_all(&draft);
    DirBuilder::new().mode(0o755).create(&draft)?;
    for (name, bytes) in files {
        let path = draft.join(name);
        if let Some(within) = path.parent() {
            DirBuilder::new().recursive(true).mode(0o755).create(within)?;
        }
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o644).open(&path)?;
        file.write_all(bytes)?;
        file.sync_all()?;
    }
    File::open(&draft)?.sync_all()?;
    if folder.exists() {
        renameat_with(CWD, &draft, CWD, folder, RenameFlags::EXCHANGE)?;
        fs::remove_dir_all(&draft)?;
    } else {
        fs::rename(&draft, folder)?;
    }
    File::open(&above)?.sync_all()
}

/// Refuses a place for the policy that is no folder, or one that others could fill.
///
/// # Errors
/// [`Failure`] if so.
pub(super) fn must_be_a_folder(policy: &Path) -> Result<(), Failure> {
    let shown = policy.display().to_string();
    match fs::metadata(policy) {
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(()),
        Err(error) => {
            Err(Failure::usage(format!("cannot look at {shown}: {error}"), "see --policy"))
        }
        Ok(metadata) if metadata.is_dir() => only_ours(&shown, &metadata),
        Ok(_) => Err(Failure::usage(
            format!("{shown} is a file, and a member of a fleet has its policy in a folder"),
            "name another place with --policy or TIPSTAFF_POLICY, such as /etc/tipstaff/policy",
        )),
    }
}
