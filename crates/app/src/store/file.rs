//! Files: written whole or not at all, one writer at a time.

use crate::Failure;
use crate::load::NO_POLICY;
use rustix::fs::{Mode, XattrFlags, fchmod, fchown};
use rustix::io::Errno;
use std::fs::{self, File, OpenOptions};
use std::io::{self, ErrorKind, Write};
use std::os::fd::AsFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use tipstaff_linux::lock_for_writing;

/// How long somebody else may change a policy.
const PATIENCE: Duration = Duration::from_secs(30);
const LOOK: Duration = Duration::from_millis(10);
/// The files of a folder that is a policy are named so.
const EXTENSION: &str = "toml";

/// Held while a policy is changed; let go when dropped, or when the program ends, however it ends.
#[derive(Debug)]
pub struct Lock {
    _file: File,
}

/// Waits until nobody else changes the policy at `path`.
///
/// The policy's file is locked, for a folder the first of its files, as only who may write it can: whoever
/// can merely read it cannot keep others from changing it.
///
/// # Errors
/// [`Failure`] if there is no such policy, or somebody else has held the lock for too long.
pub fn lock(path: &Path) -> Result<Lock, Failure> {
    let failed = |error: io::Error| {
        let doing = if error.kind() == ErrorKind::NotFound { "read the policy" } else { "lock" };
        Failure::usage(format!("cannot {doing} {}: {error}", path.display()), NO_POLICY)
    };
    let begun = Instant::now();
    loop {
        let wanted = first_file(path).map_err(failed)?;
        let held = match OpenOptions::new().read(true).write(true).open(&wanted) {
            Ok(file) => lock_for_writing(file.as_fd()).map(|()| file),
            // Whoever may replace a file that cannot be written has its folder.
            Err(error)
                if matches!(
                    error.kind(),
                    ErrorKind::PermissionDenied | ErrorKind::ReadOnlyFilesystem
                ) =>
            {
                let folder = File::open(folder_of(&wanted)).map_err(failed)?;
                super::home::lock(&folder, PATIENCE).map(|()| folder)
            }
            Err(error) => return Err(failed(error)),
        };
        match held {
            // A file that was replaced while we waited is another one.
            Ok(file) if file.metadata().is_ok_and(|it| it.is_dir()) || is_at(&file, &wanted) => {
                return Ok(Lock { _file: file });
            }
            Ok(_) => {}
            Err(error) if error.kind() == ErrorKind::WouldBlock && begun.elapsed() < PATIENCE => {
                std::thread::sleep(LOOK);
            }
            Err(error) if error.kind() == ErrorKind::WouldBlock => {
                return Err(failed(io::Error::new(
                    ErrorKind::TimedOut,
                    format!(
                        "somebody else has been changing it for {} seconds",
                        PATIENCE.as_secs()
                    ),
                )));
            }
            Err(error) => return Err(failed(error)),
        }
    }
}

/// The file itself, or the first of a folder.
fn first_file(path: &Path) -> io::Result<PathBuf> {
    if !path.is_dir() {
        return Ok(path.to_owned());
    }
    let files = fs::read_dir(path)?.flatten().map(|it| it.path());
    let hidden =
        |it: &PathBuf| it.file_name().is_some_and(|name| name.as_encoded_bytes().starts_with(b"."));
    let first =
        files.filter(|it| it.extension().is_some_and(|it| it == EXTENSION) && !hidden(it)).min();
    first.ok_or_else(|| io::Error::new(ErrorKind::NotFound, "the folder has no policy in it"))
}

/// Whether a file that is open is the one at that path.
fn is_at(file: &File, path: &Path) -> bool {
    let number = |it: fs::Metadata| (it.dev(), it.ino());
    match (file.metadata(), fs::metadata(path)) {
        (Ok(open), Ok(there)) => number(open) == number(there),
        _ => false,
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
    replace_like(path, bytes, path)
}

/// Makes a new file, with the owner and mode of those of a policy.
///
/// # Errors
/// [`Failure`] if it cannot be written.
pub fn make_like(path: &Path, bytes: &[u8], policy: &Path) -> Result<(), Failure> {
    replace_like(path, bytes, policy)
}

/// Makes a file that everybody may read, or puts another in its place: whoever reads it sees the old one
/// or the new one, whole.
///
/// # Errors
/// [`Failure`] if it cannot be written.
pub fn put_for_all(path: &Path, bytes: &[u8]) -> Result<(), Failure> {
    let Some(name) = path.file_name() else {
        return Err(Failure::usage(format!("{} names no file", path.display()), "name a file"));
    };
    let folder = folder_of(path);
    let draft = folder.join(draft_of(name));
    let _ = fs::remove_file(&draft);
    let write = || -> io::Result<()> {
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o644).open(&draft)?;
        file.write_all(bytes)?;
        // Whatever the mask of who calls.
        fchmod(&file, Mode::from_raw_mode(0o644))?;
        file.sync_all()?;
        fs::rename(&draft, path)?;
        File::open(&folder)?.sync_all()
    };
    write().map_err(|error| {
        let _ = fs::remove_file(&draft);
        Failure::System {
            message: format!("cannot write {}: {error}", path.display()),
            help: vec!["what was there before still is".into()],
        }
    })
}

/// What a file is called until it takes its place: hidden, and not named like a policy, so that a folder
/// that is read as one does not take it in.
fn draft_of(name: &std::ffi::OsStr) -> std::ffi::OsString {
    let mut draft = std::ffi::OsString::from(".");
    draft.push(name);
    draft.push(format!(".{}.new", std::process::id()));
    draft
}

/// Removes a file.
///
/// # Errors
/// [`Failure`] if it cannot be removed.
pub fn remove(path: &Path) -> Result<(), Failure> {
    let removed = fs::remove_file(path).and_then(|()| File::open(folder_of(path))?.sync_all());
    removed.map_err(|error| Failure::System {
        message: format!("cannot remove {}: {error}", path.display()),
        help: vec!["nothing was changed".into()],
    })
}

/// Makes a file, or replaces what is in it, with the owner and mode of the file `like`.
///
/// # Errors
/// [`Failure`] if it cannot be written.
pub(super) fn replace_like(path: &Path, bytes: &[u8], like: &Path) -> Result<(), Failure> {
    let failed = |error: io::Error| Failure::System {
        message: format!("cannot write {}: {error}", path.display()),
        help: vec!["nothing was changed".into()],
    };
    let like = &first_file(like).map_err(failed)?;
    let metadata = fs::metadata(like).map_err(failed)?;
    let (folder, name) = (folder_of(path), path.file_name().unwrap_or_default());
    let draft = folder.join(draft_of(name));
    // One that a killed process of the same number left behind would be in the way.
    let _ = fs::remove_file(&draft);
    let written = write(&draft, bytes, &metadata, like)
        .and_then(|()| fs::rename(&draft, path))
        .and_then(|()| File::open(&folder)?.sync_all());
    if written.is_err() {
        let _ = fs::remove_file(&draft);
    }
    written.map_err(failed)
}

fn write(draft: &Path, bytes: &[u8], like: &fs::Metadata, of: &Path) -> io::Result<()> {
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
    keep_attributes(of, &file)?;
    file.sync_all()
}

/// Gives a file the extended attributes of another, access control lists among them (xattr(7)). Those of
/// security modules are theirs to give.
fn keep_attributes(of: &Path, to: &File) -> io::Result<()> {
    const MOST: usize = 64 * 1024;
    let mut list = vec![0; MOST];
    let names = match rustix::fs::listxattr(of, &mut list[..]) {
        Ok(length) => &list[..length],
        // A file system without them.
        Err(Errno::OPNOTSUPP) => return Ok(()),
        Err(error) => return Err(error.into()),
    };
    for name in names.split(|&byte| byte == 0).filter(|it| !it.is_empty()) {
        if name.starts_with(b"security.") {
            continue;
        }
        let name = std::ffi::OsStr::from_bytes(name);
        let mut value = vec![0; MOST];
        let length = rustix::fs::getxattr(of, name, &mut value[..])?;
        rustix::fs::fsetxattr(to, name, &value[..length], XattrFlags::empty())?;
    }
    Ok(())
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
pub(crate) fn replace_private(path: &Path, bytes: &[u8]) -> io::Result<()> {
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
