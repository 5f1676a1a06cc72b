//! Files that are written, replaced, removed or that come, as the system tells of it (inotify(7)).

use crate::LinuxError;
use rustix::fd::{AsFd, BorrowedFd, OwnedFd};
use rustix::fs::inotify::{CreateFlags, ReadFlags, Reader, WatchFlags, add_watch, init};
use rustix::io::Errno;
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::{OsStr, OsString};
use std::mem::MaybeUninit;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

/// Room for some hundred events.
const ROOM: usize = 16 * 1024;
/// Whoever writes without end is not listened to for ever.
const AT_ONCE: usize = 65_536;
/// So many links are followed, as the system does.
const LINKS: usize = 40;

/// Tells which of some files have changed. Not the files themselves are watched but the folders they are in, so that one
/// that is replaced, or comes later, is seen.
#[derive(Debug)]
pub struct ChangedFiles {
    inotify: OwnedFd,
    /// Which files an entry of a folder belongs to, by the folder's number.
    entries: BTreeMap<(i32, OsString), BTreeSet<PathBuf>>,
    /// Whether a folder could not be watched, or is not what it was any more.
    stale: bool,
}

impl ChangedFiles {
    /// Begins to listen. A link is watched at every step.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn of(files: &BTreeSet<PathBuf>) -> Result<Self, LinuxError> {
        let flags = CreateFlags::CLOEXEC | CreateFlags::NONBLOCK;
        let inotify = init(flags).map_err(|it| LinuxError::system("watch files", it))?;
        let mut all = Self { inotify, entries: BTreeMap::new(), stale: false };
        for file in files {
            for step in steps(file) {
                all.add(&step, file);
            }
        }
        Ok(all)
    }

    fn add(&mut self, step: &Path, file: &Path) {
        let (Some(folder), Some(name)) = (step.parent(), step.file_name()) else { return };
        let folder = if folder.as_os_str().is_empty() { Path::new(".") } else { folder };
        let what = WatchFlags::CREATE
            | WatchFlags::MOVED_TO
            | WatchFlags::MOVED_FROM
            | WatchFlags::CLOSE_WRITE
            | WatchFlags::DELETE
            | WatchFlags::DELETE_SELF
            | WatchFlags::MOVE_SELF
            | WatchFlags::ATTRIB
            | WatchFlags::ONLYDIR;
        match add_watch(&self.inotify, folder, what) {
            Ok(number) => {
                self.entries.entry((number, name.to_owned())).or_default().insert(file.to_owned());
            }
            Err(_) => self.stale = true,
        }
    }

    /// Whether not all is watched, so that it is worth beginning anew after a while.
    pub fn is_stale(&self) -> bool {
        self.stale
    }

    /// The files that have changed since this was asked last; where there were too many to tell, all.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn changed(&mut self) -> Result<BTreeSet<PathBuf>, LinuxError> {
        let mut changed = BTreeSet::new();
        let mut room = vec![MaybeUninit::uninit(); ROOM];
        let mut reader = Reader::new(&self.inotify, &mut room);
        for _ in 0..AT_ONCE {
            let event = match reader.next() {
                Ok(event) => event,
                Err(Errno::WOULDBLOCK) => break,
                Err(Errno::INTR) => continue,
                Err(error) => return Err(LinuxError::system("watch files", error)),
            };
            let gone = ReadFlags::IGNORED | ReadFlags::UNMOUNT | ReadFlags::MOVE_SELF;
            self.stale |= event.events().intersects(gone);
            if event.events().contains(ReadFlags::QUEUE_OVERFLOW) {
                changed.extend(self.entries.values().flatten().cloned());
                continue;
            }
            let Some(name) = event.file_name() else { continue };
            let entry = (event.wd(), OsStr::from_bytes(name.to_bytes()).to_owned());
            changed.extend(self.entries.get(&entry).into_iter().flatten().cloned());
        }
        Ok(changed)
    }
}

impl AsFd for ChangedFiles {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.inotify.as_fd()
    }
}

/// A path, and what it leads to where it is a link, step by step.
fn steps(file: &Path) -> Vec<PathBuf> {
    let mut all = vec![file.to_owned()];
    for _ in 0..LINKS {
        let last = all.last().map_or(file, PathBuf::as_path);
        let Ok(target) = std::fs::read_link(last) else { break };
        let next = last.parent().unwrap_or(Path::new("/")).join(target);
        if all.contains(&next) {
            break;
        }
        all.push(next);
    }
    all
}
