//! Files: written whole or not at all, one writer at a time.

use crate::app::Failure;
use rustix::fs::{FlockOperation, Mode, fchmod, fchown, flock};
use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

/// Held while a policy is changed; let go when dropped, or when the program ends, however it ends.
#[derive(Debug)]
pub struct Lock {
    _folder: File,
}

/// Waits until nobody else changes the policy at `path`.
///
/// The folder is locked, not the file: the file is replaced, and a lock on it would go with it.
///
/// # Errors
/// [`Failure`] if there is no such folder.
pub fn lock(path: &Path) -> Result<Lock, Failure> {
    let folder = if path.is_dir() { path.to_owned() } else { folder_of(path) };
    let locked = File::open(&folder)
        .and_then(|folder| Ok(flock(&folder, FlockOperation::LockExclusive).map(|()| folder)?));
    match locked {
        Ok(folder) => Ok(Lock { _folder: folder }),
        Err(error) => {
            let message = format!("cannot lock the folder {}: {error}", folder.display());
            Err(Failure::usage(message, "name a policy with --policy PATH or TIPSTAFF_POLICY"))
        }
    }
}

fn folder_of(path: &Path) -> PathBuf {
    match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder.to_owned(),
        _ => PathBuf::from("."),
    }
}

/// Replaces what is in a file, keeping its owner and mode. Until the last step, which the system
/// does at once, the file is what it was.
///
/// # Errors
/// [`Failure`] if the file is a link that leads out of its folder, or cannot be written.
pub fn replace(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    let path = &inside(path)?;
    let failed = |error: io::Error| Failure::System {
        message: format!("cannot write {}: {error}", path.display()),
        help: vec!["nothing was changed".into()],
    };
    let metadata = fs::metadata(path).map_err(failed)?;
    let (folder, name) = (folder_of(path), path.file_name().unwrap_or_default());
    // Hidden, and not named like a policy: a folder that is read as one does not take it in.
    let mut draft = std::ffi::OsString::from(".");
    draft.push(name);
    draft.push(format!(".{}.new", std::process::id()));
    let draft = folder.join(draft);
    // One that a killed process of the same number left behind would be in the way.
    let _ = fs::remove_file(&draft);
    let written = write(&draft, bytes, &metadata)
        .and_then(|()| fs::rename(&draft, path))
        .and_then(|()| File::open(&folder)?.sync_all());
    if written.is_err() {
        let _ = fs::remove_file(&draft);
    }
    written.map_err(failed)
}

fn write(draft: &Path, bytes: &[u8], like: &fs::Metadata) -> io::Result<()> {
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(draft)?;
    file.write_all(bytes)?;
    let own = file.metadata()?;
    if (own.uid(), own.gid()) != (like.uid(), like.gid()) {
        let (user, group) =
            (rustix::fs::Uid::from_raw(like.uid()), rustix::fs::Gid::from_raw(like.gid()));
        fchown(&file, Some(user), Some(group))?;
    }
    // After the owner: changing that may take bits away.
    fchmod(&file, Mode::from_raw_mode(like.mode() & 0o7777))?;
    file.sync_all()
}

/// The file that a path leads to, if that is in the same folder.
fn inside(path: &Path) -> Result<PathBuf, Failure> {
    let is_link = fs::symlink_metadata(path).is_ok_and(|metadata| metadata.is_symlink());
    if !is_link {
        return Ok(path.to_owned());
    }
    let folder = fs::canonicalize(folder_of(path));
    match (fs::canonicalize(path), folder) {
        (Ok(target), Ok(folder)) if target.parent() == Some(&folder) => Ok(target),
        _ => {
            let message = format!("{} is a link that leads out of its folder", path.display());
            Err(Failure::usage(message, "name the file itself with --policy"))
        }
    }
}

/// Writes a file that only its owner may read, in place of what was there.
pub fn replace_private(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let draft = path.with_extension("new");
    let _ = fs::remove_file(&draft);
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&draft)?;
    let written = file.write_all(bytes).and_then(|()| file.sync_all());
    let moved = written.and_then(|()| fs::rename(&draft, path));
    if moved.is_err() {
        let _ = fs::remove_file(&draft);
    }
    moved?;
    File::open(folder_of(path))?.sync_all()
}
