//! The docket: what was enforced on this host, when, by whom, and what became of it.
//!
//! It is a file of JSON lines that only grows. An enforcement is one line, and each thing that
//! becomes of it another, so that nothing is ever rewritten; a line that a crash tore off counts as
//! not written. The policies themselves are kept beside it, under the digest of what they say.

use super::file::replace_private;
use crate::app::Failure;
use rustix::fs::{FlockOperation, flock};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use std::collections::BTreeSet;
use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, ErrorKind, Read, Seek, SeekFrom, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use tipstaff_core::policy::Source;

const FILE: &str = "docket.jsonl";
const POLICIES: &str = "policies";
const PENDING: &str = "pending.json";
/// Entries beyond this number, the oldest, are left out when the docket is next written to, with
/// policies that only they refer to.
const KEPT: usize = 1_000;

/// What an entry is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// A policy was enforced.
    Enforce,
    /// An earlier entry was enforced again.
    Revert,
    /// The confirmed policy was loaded at boot.
    Boot,
    /// The rules were taken out.
    Release,
}

/// What became of an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// It was about to be done: whoever wrote that did not come to say more.
    Intended,
    /// The kernel refused it, or something else went wrong; nothing was changed.
    Failed,
    /// It is in force, and goes by itself unless it is confirmed.
    Pending,
    /// It was confirmed, or meant to stay from the beginning.
    Confirmed,
    /// It went, since it was not confirmed or since somebody went back.
    Reverted,
}

/// One entry.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    /// Its number, from 1.
    pub id: u64,
    /// When it was made (RFC 3339).
    pub time: String,
    /// What it is about.
    pub kind: Kind,
    /// The host of the policy.
    pub host: Option<String>,
    /// The user who did it, and the user behind a privilege switch.
    pub user: String,
    /// Who logged in, if that is somebody else.
    pub login: Option<String>,
    /// From where, if by a remote shell.
    pub from: Option<String>,
    /// The digest of the policy, by which it is kept.
    pub policy: Option<String>,
    /// The entry that it goes back to.
    pub of: Option<u64>,
    /// What it changed for packets, in a few words.
    pub effect: String,
    /// Where the remote shell of its host listens, as traffic terms.
    #[serde(default)]
    pub shell: Vec<String>,
    /// Whether everything is to pass if it cannot be loaded at boot.
    #[serde(default)]
    pub open_on_failure: bool,
    /// Whether its rules for programs were left out.
    #[serde(default)]
    pub without_programs: bool,
    /// What became of it.
    pub state: State,
    /// When that was.
    pub since: String,
}

/// A line of the file.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Event {
    /// A new entry.
    Made(Box<Entry>),
    /// What became of one.
    Became {
        /// Its number.
        id: u64,
        /// What it is now.
        became: State,
        /// When.
        time: String,
    },
}

/// A change that goes by itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pending {
    /// The entry.
    pub id: u64,
    /// When it goes, in milliseconds of the clock that counts from boot and cannot be set.
    pub deadline: u64,
    /// The boot in which that is.
    pub boot: String,
    /// The entry to go back to; if there is none, the rules are taken out.
    pub back_to: Option<u64>,
}

/// The docket, held by one process at a time.
#[derive(Debug)]
pub struct Docket {
    folder: PathBuf,
    /// The folder, locked: the file may be replaced, and a lock on it would go with it.
    _lock: File,
    file: File,
    entries: Vec<Entry>,
    /// Where the last whole line ends.
    end: u64,
}

/// A policy as it is kept.
#[derive(Debug, Serialize, Deserialize)]
pub struct Guarded {
    /// The host that it was enforced for.
    pub host: String,
    /// The names and texts of its files.
    pub files: Vec<(String, String)>,
}

fn broken(folder: &Path, error: &io::Error) -> Failure {
    let mut help = vec!["nothing was changed".to_owned()];
    if error.kind() == ErrorKind::PermissionDenied {
        help.push("run it as root, or name a folder of yours with --state PATH".into());
    }
    let message = format!("cannot keep the docket in {}: {error}", folder.display());
    Failure::System { message, help }
}

impl Docket {
    /// Opens the docket in a folder, which is made if it is not there, and waits until nobody else
    /// has it.
    ///
    /// # Errors
    /// [`Failure`] if the folder cannot be used, or the docket is not one.
    pub fn open(folder: &Path) -> Result<Self, Failure> {
        Self::opened(folder).map_err(|error| broken(folder, &error))
    }

    fn opened(folder: &Path) -> io::Result<Self> {
        DirBuilder::new().recursive(true).mode(0o700).create(folder.join(POLICIES))?;
        let lock = File::open(folder)?;
        flock(&lock, FlockOperation::LockExclusive)?;
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false).mode(0o600);
        let mut file = options.open(folder.join(FILE))?;
        let mut text = String::new();
        file.read_to_string(&mut text)?;
        let (entries, end) = read(&text)?;
        Ok(Self { folder: folder.to_owned(), _lock: lock, file, entries, end })
    }

    /// The entries of a docket that is only looked at; none if there is no docket.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be read.
    pub fn look(folder: &Path) -> Result<Vec<Entry>, Failure> {
        match fs::read_to_string(folder.join(FILE)) {
            Ok(text) => read(&text).map(|it| it.0).map_err(|error| broken(folder, &error)),
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(broken(folder, &error)),
        }
    }

    /// All entries, oldest first.
    pub fn entries(&self) -> &[Entry] {
        &self.entries
    }

    /// The last entry that was confirmed.
    pub fn confirmed(&self) -> Option<&Entry> {
        self.entries.iter().rev().find(|entry| entry.state == State::Confirmed)
    }

    /// Adds an entry; its number is chosen here.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be written and synced.
    pub fn add(&mut self, mut entry: Entry) -> Result<u64, Failure> {
        entry.id = self.entries.last().map_or(1, |last| last.id + 1);
        let id = entry.id;
        if self.entries.len() >= KEPT {
            self.trim(entry.policy.as_deref()).map_err(|error| broken(&self.folder, &error))?;
        }
        self.write(&Event::Made(Box::new(entry.clone())))?;
        self.entries.push(entry);
        Ok(id)
    }

    /// Notes what became of an entry.
    ///
    /// # Errors
    /// As for [`Docket::add`].
    pub fn became(&mut self, id: u64, state: State, time: &str) -> Result<(), Failure> {
        self.write(&Event::Became { id, became: state, time: time.to_owned() })?;
        if let Some(entry) = self.entries.iter_mut().find(|entry| entry.id == id) {
            entry.state = state;
            time.clone_into(&mut entry.since);
        }
        Ok(())
    }

    fn write(&mut self, event: &Event) -> Result<(), Failure> {
        let mut line = serde_json::to_vec(event).unwrap_or_default();
        line.push(b'\n');
        // What a crash tore off is written over.
        let written = self
            .file
            .set_len(self.end)
            .and_then(|()| self.file.seek(SeekFrom::Start(self.end)))
            .and_then(|_| self.file.write_all(&line))
            .and_then(|()| self.file.sync_all());
        match written {
            Ok(()) => {
                self.end += line.len() as u64;
                Ok(())
            }
            Err(error) => {
                // The next one to read it must not take half a line for one.
                let _ = self.file.set_len(self.end);
                Err(broken(&self.folder, &error))
            }
        }
    }

    /// Leaves out the oldest half of the entries, and policies that nobody refers to any more, but
    /// for one that is about to be.
    fn trim(&mut self, wanted: Option<&str>) -> io::Result<()> {
        let gone = self.entries.len() / 2;
        let last_good = self.confirmed().cloned();
        let mut kept: Vec<Entry> = self.entries.split_off(gone);
        if let Some(good) = last_good.filter(|good| kept.iter().all(|it| it.id != good.id)) {
            kept.insert(0, good);
        }
        self.entries = kept;
        let mut text = Vec::new();
        for entry in &self.entries {
            serde_json::to_writer(&mut text, &Event::Made(Box::new(entry.clone())))?;
            text.push(b'\n');
        }
        let path = self.folder.join(FILE);
        replace_private(&path, &text)?;
        self.file = OpenOptions::new().read(true).write(true).open(&path)?;
        self.end = text.len() as u64;
        let used: BTreeSet<&str> =
            self.entries.iter().filter_map(|entry| entry.policy.as_deref()).chain(wanted).collect();
        for file in fs::read_dir(self.folder.join(POLICIES))?.flatten() {
            let name = file.file_name();
            let digest = name.to_string_lossy().trim_end_matches(".json").to_owned();
            if !used.contains(digest.as_str()) {
                fs::remove_file(file.path())?;
            }
        }
        Ok(())
    }

    /// Keeps a policy under the digest of what it says, and gives that.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be written.
    pub fn keep(&self, host: &str, sources: &[Source]) -> Result<String, Failure> {
        let (digest, bytes) = digest(host, sources);
        let path = self.folder.join(POLICIES).join(format!("{digest}.json"));
        if !path.exists() {
            replace_private(&path, &bytes).map_err(|error| broken(&self.folder, &error))?;
        }
        Ok(digest)
    }

    /// The policy of an entry, as it was.
    ///
    /// # Errors
    /// [`Failure`] if it is not there any more, or not what it was.
    pub fn policy(folder: &Path, entry: &Entry) -> Result<Guarded, Failure> {
        let wrong = |why: &str| Failure::System {
            message: format!("the policy of entry {} {why}", entry.id),
            help: vec!["choose another entry; `tipstaff docket` lists them".into()],
        };
        let digest = entry.policy.as_ref().ok_or_else(|| wrong("was never there"))?;
        let path = folder.join(POLICIES).join(format!("{digest}.json"));
        let bytes = fs::read(&path).map_err(|_| wrong("is not kept any more"))?;
        if sum(&bytes) != *digest {
            return Err(wrong("is not what it was: its file was changed"));
        }
        serde_json::from_slice(&bytes).map_err(|_| wrong("cannot be read"))
    }

    /// The change that waits to be confirmed.
    pub fn pending(folder: &Path) -> Option<Pending> {
        serde_json::from_slice(&fs::read(folder.join(PENDING)).ok()?).ok()
    }

    /// Notes that a change waits to be confirmed, or that none does any more.
    ///
    /// # Errors
    /// [`Failure`] if that cannot be written.
    pub fn set_pending(&self, pending: Option<&Pending>) -> Result<(), Failure> {
        let path = self.folder.join(PENDING);
        let done = match pending {
            Some(pending) => {
                let bytes = serde_json::to_vec(pending).unwrap_or_default();
                replace_private(&path, &bytes)
            }
            None => match fs::remove_file(&path) {
                Err(error) if error.kind() != ErrorKind::NotFound => Err(error),
                _ => File::open(&self.folder).and_then(|folder| folder.sync_all()),
            },
        };
        done.map_err(|error| broken(&self.folder, &error))
    }
}

/// The entries of a docket's text, and where its last whole line ends. The last line may be torn;
/// any other that cannot be read means that this is no docket.
fn read(text: &str) -> io::Result<(Vec<Entry>, u64)> {
    let mut entries: Vec<Entry> = Vec::new();
    let mut end = 0;
    for (number, line) in text.split_inclusive('\n').enumerate() {
        let whole = line.ends_with('\n');
        match serde_json::from_str(line) {
            Ok(Event::Made(entry)) if whole => entries.push(*entry),
            Ok(Event::Became { id, became, time }) if whole => {
                if let Some(entry) = entries.iter_mut().find(|entry| entry.id == id) {
                    (entry.state, entry.since) = (became, time);
                }
            }
            _ if !whole => break,
            _ => {
                let why = format!("line {} of {FILE} cannot be read", number + 1);
                return Err(io::Error::new(ErrorKind::InvalidData, why));
            }
        }
        end += line.len() as u64;
    }
    Ok((entries, end))
}

fn sum(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The digest of a policy for a host, and what it is the digest of.
pub fn digest(host: &str, sources: &[Source]) -> (String, Vec<u8>) {
    let files = sources.iter().map(|it| (it.name.to_string(), it.text.to_string())).collect();
    let bytes = serde_json::to_vec(&Guarded { host: host.to_owned(), files }).unwrap_or_default();
    (sum(&bytes), bytes)
}
