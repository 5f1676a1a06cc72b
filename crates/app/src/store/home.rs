//! Where what is kept is kept: a folder for each network namespace, and whether it can be trusted.

use crate::Failure;
use rustix::fs::{FlockOperation, OFlags, flock};
use std::fs::{self, DirBuilder, File, Metadata, OpenOptions};
use std::io::{self, ErrorKind};
use std::os::fd::AsFd;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use tipstaff_linux::{Place, lock_for_writing};

/// Dockets of namespaces other than the machine's own lie below this.
const OTHERS: &str = "namespaces";
/// The file that is locked.
const LOCK: &str = "lock";
/// How often a lock that is held is tried.
const LOOK: Duration = Duration::from_millis(10);

/// Where a network namespace's docket is, and what a boot needs without it.
#[derive(Clone, Debug)]
pub struct Home {
    /// The folder of this namespace's docket.
    pub folder: PathBuf,
    /// The folder of all of them, as it was asked for.
    pub state: PathBuf,
    /// The note that a boot needs, as it was asked for.
    pub asked_note: PathBuf,
    /// This namespace's note; `None` where nothing is there after a reboot.
    pub note: Option<PathBuf>,
    /// The network namespace that it is for.
    pub place: Place,
    /// The policy and its host, as they are asked for now. Only where all that is kept has lost it is
    /// that asked where the remote shell listens.
    pub policy: Option<(PathBuf, Option<String>)>,
}

impl Home {
    /// That of the calling thread's namespace. Paths may be relative; they are not afterwards, so
    /// that whoever changes folder still finds them.
    pub fn of(state: &Path, note: &Path) -> Self {
        let whole = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        let (state, note) = (whole(state), whole(note));
        let place = Place::current();
        let below = |name: &str| state.join(OTHERS).join(name);
        let folder = match &place {
            Place::Main => state.clone(),
            Place::Named(name) => below(name),
            Place::Unnamed(number) => below(&format!("{}.{number}", this_boot())),
        };
        let own_note = match &place {
            Place::Main => Some(note.clone()),
            Place::Named(name) => {
                let stem = note.file_stem().unwrap_or_default().to_string_lossy().into_owned();
                Some(note.with_file_name(format!("{stem}.{name}.json")))
            }
            Place::Unnamed(_) => None,
        };
        Self { folder, state, asked_note: note, note: own_note, place, policy: None }
    }

    /// The same, with the policy that is asked for now.
    pub fn with_policy(self, policy: &Path, host: Option<&str>) -> Self {
        Self { policy: Some((policy.to_owned(), host.map(str::to_owned))), ..self }
    }

    /// Makes the folder, for its owner alone.
    ///
    /// # Errors
    /// The system's.
    pub fn make(&self) -> io::Result<()> {
        DirBuilder::new().recursive(true).mode(0o700).create(&self.folder)
    }

    /// Refuses a folder that others could have filled.
    ///
    /// # Errors
    /// The system's, or that somebody else can write there.
    pub(crate) fn trusted(&self) -> io::Result<()> {
        if self.folder != self.state {
            trusted_folder(&self.state)?;
        }
        trusted_folder(&self.folder)
    }

    /// Locks the folder; somebody else may hold it for so long. The lock is one that only who may write
    /// in the folder can have; where nothing can be written, there is little to keep apart, and one that
    /// whoever may read can have is good enough.
    ///
    /// # Errors
    /// The system's; `WouldBlock` if somebody holds it for longer.
    pub fn lock(&self, patience: Duration) -> io::Result<File> {
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false);
        let Ok(file) = open(&self.folder.join(LOCK), &mut options) else {
            let folder = File::open(&self.folder)?;
            lock(&folder, patience)?;
            return Ok(folder);
        };
        wait(patience, || lock_for_writing(file.as_fd()))?;
        Ok(file)
    }

    /// Removes what earlier boots left of namespaces that had no names: they are gone.
    pub fn tidy(&self) {
        let Place::Unnamed(_) = self.place else { return };
        let this = format!("{}.", this_boot());
        let is_boot = |name: &str| name.len() > 36 && name.as_bytes().get(36) == Some(&b'.');
        for file in fs::read_dir(self.state.join(OTHERS)).into_iter().flatten().flatten() {
            let name = file.file_name().to_string_lossy().into_owned();
            if is_boot(&name) && !name.starts_with(&this) {
                let _ = fs::remove_dir_all(file.path());
            }
        }
    }
}

/// Waits for a lock that whoever may open the file can have.
pub(super) fn lock(file: &File, patience: Duration) -> io::Result<()> {
    wait(patience, || Ok(flock(file, FlockOperation::NonBlockingLockExclusive)?))
}

/// Tries for a lock again and again, but not for ever.
fn wait(patience: Duration, attempt: impl Fn() -> io::Result<()>) -> io::Result<()> {
    let begun = Instant::now();
    loop {
        match attempt() {
            Err(error) if error.kind() != ErrorKind::WouldBlock => return Err(error),
            Err(_) if begun.elapsed() < patience => std::thread::sleep(LOOK),
            Err(_) => {
                let seconds = patience.as_secs();
                return Err(io::Error::new(
                    ErrorKind::TimedOut,
                    format!("another process has held its lock for {seconds} seconds"),
                ));
            }
            Ok(()) => return Ok(()),
        }
    }
}

/// The kernel's name for this boot, never given twice.
pub(crate) fn this_boot() -> String {
    let name = fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default();
    name.trim().to_owned()
}

fn untrusted(path: &Path, why: &str) -> io::Error {
    io::Error::new(ErrorKind::InvalidData, format!("{} {why}", path.display()))
}

/// Whether a file or folder is only root's, or only the caller's.
fn only_ours(path: &Path, metadata: &Metadata) -> io::Result<()> {
    let owner = metadata.uid();
    if owner != 0 && owner != rustix::process::geteuid().as_raw() {
        return Err(untrusted(path, &format!("belongs to user {owner}, who could change it")));
    }
    if metadata.mode() & 0o022 != 0 {
        let mode = metadata.mode() & 0o777;
        return Err(untrusted(path, &format!("can be written by others (mode {mode:03o})")));
    }
    Ok(())
}

fn trusted_folder(path: &Path) -> io::Result<()> {
    let link = fs::symlink_metadata(path)?;
    let owner = link.uid();
    if link.is_symlink() && owner != 0 && owner != rustix::process::geteuid().as_raw() {
        return Err(untrusted(path, &format!("is a link that user {owner} made")));
    }
    let metadata = fs::metadata(path)?;
    if !metadata.is_dir() {
        return Err(untrusted(path, "is not a folder"));
    }
    only_ours(path, &metadata)
}

/// Opens a file that is kept: a plain one, no link, nobody else's.
pub(super) fn open(path: &Path, options: &mut OpenOptions) -> io::Result<File> {
    // A pipe or a device must not make anybody wait.
    let flags = OFlags::NOFOLLOW | OFlags::NONBLOCK;
    let flags = i32::try_from(flags.bits()).unwrap_or_default();
    let file = options.mode(0o600).custom_flags(flags).open(path)?;
    let metadata = file.metadata()?;
    if !metadata.is_file() {
        return Err(untrusted(path, "is not a plain file"));
    }
    only_ours(path, &metadata)?;
    Ok(file)
}

/// What is in a file that is kept; larger ones than this many bytes are not ours.
pub(super) fn read(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    use std::io::Read;
    let file = open(path, OpenOptions::new().read(true))?;
    let mut bytes = Vec::new();
    let read = file.take(most + 1).read_to_end(&mut bytes)?;
    if read as u64 > most {
        return Err(untrusted(path, "is too large to be what it should be"));
    }
    Ok(bytes)
}

/// The failure to keep something.
pub(super) fn broken(what: &str, folder: &Path, error: &io::Error) -> Failure {
    let mut help = vec!["nothing was changed".to_owned()];
    match error.kind() {
        ErrorKind::PermissionDenied => {
            help.push("run it as root, or name a folder of yours with --state PATH".into());
        }
        ErrorKind::InvalidData => help.push(
            "the folder must be root's, or yours, and nobody else may write it: look who did, then \
             chown and chmod go-w"
                .into(),
        ),
        _ => {}
    }
    Failure::System { message: format!("cannot {what} in {}: {error}", folder.display()), help }
}
