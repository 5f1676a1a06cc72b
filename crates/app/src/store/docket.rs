//! The docket: what was enforced in this namespace, when, by whom, and what became of it.
//!
//! It is a file of JSON lines that only grows. An enforcement is one line, and each thing that
//! becomes of it another, so that nothing is ever rewritten; a line that a crash tore off counts as
//! not written. Lines are independent: what is damaged is passed over, and said. The policies
//! themselves are kept beside it, under the digest of what they say.

use super::entry::{Became, Entry, Event, State, event, line};
use super::file::replace_private;
use super::home::{Home, broken, open, read};
use super::{kept, note};
use crate::Failure;
use serde::Serialize;
use std::collections::BTreeSet;
use std::fs::{self, File, OpenOptions};
use std::io::{self, ErrorKind, Seek, SeekFrom, Write};
use std::time::{Duration, SystemTime};
use tipstaff_core::policy::Source;

pub(super) const FILE: &str = "docket.jsonl";
const LARGEST: u64 = 256 * 1024 * 1024;
/// Entries beyond this number, the oldest, are left out when the docket is next written to, with
/// policies that only they refer to.
const KEPT: usize = 1_000;
/// By what it is known that the docket's file has changed: when it was, and its length; `None` if it is not there.
pub(crate) fn docket_stamp(home: &Home) -> Option<(SystemTime, u64)> {
    let metadata = fs::metadata(home.folder.join(FILE)).ok()?;
    Some((metadata.modified().ok()?, metadata.len()))
}

/// How long somebody else may hold the docket.
const PATIENCE: Duration = Duration::from_secs(30);

/// A line that cannot be read.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Lost {
    /// Its number, from 1.
    pub line: usize,
    /// Why, as the end of a sentence.
    pub why: &'static str,
}

/// What a docket's file says.
#[derive(Clone, Debug, Default)]
pub struct Written {
    /// The entries, oldest first.
    pub entries: Vec<Entry>,
    /// Lines that cannot be read.
    pub lost: Vec<Lost>,
    /// Where the last whole line ends.
    end: u64,
}

impl Written {
    /// Reads the file; nothing if it is not there.
    ///
    /// # Errors
    /// The system's, or that the file cannot be trusted.
    pub fn read(home: &Home) -> io::Result<Self> {
        match read(&home.folder.join(FILE), LARGEST) {
            Ok(bytes) => Ok(Self::of(&bytes)),
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(Self::default()),
            Err(error) => Err(error),
        }
    }

    fn of(bytes: &[u8]) -> Self {
        let mut written = Self::default();
        for (at, line) in bytes.split_inclusive(|&byte| byte == b'\n').enumerate() {
            let whole = line.ends_with(b"\n");
            match event(line) {
                _ if !whole => break,
                Ok(Event::Made(entry)) => written.entries.push(*entry),
                Ok(Event::Became(it)) => written.note(&it),
                Err(why) => written.lost.push(Lost { line: at + 1, why }),
            }
            written.end += line.len() as u64;
        }
        written
    }

    fn note(&mut self, it: &Became) {
        if let Some(entry) = self.entries.iter_mut().rev().find(|entry| entry.id == it.id) {
            entry.state = it.became;
            entry.since.clone_from(&it.time);
        }
    }

    /// The last entry that was confirmed.
    pub fn confirmed(&self) -> Option<&Entry> {
        self.entries.iter().rev().find(|entry| entry.state == State::Confirmed)
    }

    /// The entry of that number.
    pub fn entry(&self, id: u64) -> Option<&Entry> {
        self.entries.iter().rev().find(|entry| entry.id == id)
    }
}

/// The docket, held by one process at a time.
#[derive(Debug)]
pub struct Docket {
    home: Home,
    /// The folder, locked: the file may be replaced, and a lock on it would go with it.
    _lock: Option<File>,
    /// The file, or why it cannot be written.
    file: Result<File, String>,
    written: Written,
    readable: bool,
}

impl Docket {
    /// Opens the docket in a folder, which is made if it is not there, and waits until nobody else
    /// has it.
    ///
    /// # Errors
    /// [`Failure`] if the folder cannot be used.
    pub fn open(home: &Home) -> Result<Self, Failure> {
        Self::opened(home).map_err(|error| broken("keep the docket", &home.folder, &error))
    }

    fn opened(home: &Home) -> io::Result<Self> {
        home.make()?;
        home.trusted()?;
        let lock = home.lock(PATIENCE)?;
        kept::make(home)?;
        home.tidy();
        let file = Self::file(home)?;
        let written = Written::read(home)?;
        Ok(Self { home: home.clone(), _lock: Some(lock), file: Ok(file), written, readable: true })
    }

    fn file(home: &Home) -> io::Result<File> {
        let mut options = OpenOptions::new();
        options.read(true).write(true).create(true).truncate(false);
        open(&home.folder.join(FILE), &mut options)
    }

    /// Opens what there is of a docket, for those who must go on whatever is broken; gives also what
    /// is, as whole sentences.
    pub(crate) fn open_anyway(home: &Home, patience: Duration) -> (Self, Vec<String>) {
        let mut trouble = Vec::new();
        let folder = home.folder.display();
        let _ = home.make();
        let trusted = home.trusted();
        let lock = home.lock(patience);
        let written = match &trusted {
            Ok(()) => Written::read(home),
            // There never was one, and none can be made.
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(Written::default()),
            Err(error) => Err(io::Error::new(error.kind(), error.to_string())),
        };
        let file = match (&trusted, &written) {
            (Ok(()), Ok(_)) => kept::make(home).and_then(|()| Self::file(home)),
            (Err(error), Ok(_)) => Err(io::Error::new(error.kind(), error.to_string())),
            _ => Err(io::Error::other("it cannot be read")),
        };
        let file = file.map_err(|error| error.to_string());
        if let Err(error) = &written {
            trouble.push(format!("the docket in {folder} cannot be read: {error}"));
        } else if let Err(error) = &file {
            trouble.push(format!("the docket in {folder} cannot be written: {error}"));
        }
        let readable = written.is_ok();
        let written = written.unwrap_or_default();
        trouble.extend(written.lost.iter().map(|it| {
            format!("line {} of {FILE} {}; `tipstaff docket mend` saves the rest", it.line, it.why)
        }));
        (Self { home: home.clone(), _lock: lock.ok(), file, written, readable }, trouble)
    }

    /// Whether what was there could be read; else it is not known what was enforced.
    pub(crate) fn is_readable(&self) -> bool {
        self.readable
    }

    /// Refuses to go on with a docket of which something is lost.
    ///
    /// # Errors
    /// [`Failure`] that says what.
    pub fn whole(&self) -> Result<(), Failure> {
        let Some(lost) = self.written.lost.first() else { return Ok(()) };
        Err(Failure::System {
            message: format!(
                "line {} of {FILE} in {} {}",
                lost.line,
                self.home.folder.display(),
                lost.why
            ),
            help: vec![
                "`tipstaff docket mend` keeps what can be read, and says what was lost".into(),
                "nothing was changed".into(),
            ],
        })
    }

    /// The entries of a docket that is only looked at; none if there is no docket.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be read.
    pub fn look(home: &Home) -> Result<Written, Failure> {
        let trusted = match home.trusted() {
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Written::default()),
            other => other,
        };
        trusted
            .and_then(|()| Written::read(home))
            .map_err(|error| broken("read the docket", &home.folder, &error))
    }

    /// The line itself, whatever state it is in.
    pub fn written(&self) -> &Written {
        &self.written
    }

    /// All entries, oldest first.
    pub fn entries(&self) -> &[Entry] {
        &self.written.entries
    }

    /// The last entry that was confirmed.
    pub fn confirmed(&self) -> Option<&Entry> {
        self.written.confirmed()
    }

    /// Adds an entry; its number is chosen here.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be written and synced.
    pub fn add(&mut self, mut entry: Entry) -> Result<u64, Failure> {
        // What a boot was told may know of a later one than what is left of the docket.
        let noted = note::Note::read(&self.home).ok().flatten().map_or(0, |it| it.entry);
        let last = self.entries().iter().map(|it| it.id).max().unwrap_or_default();
        entry.id = last.max(noted) + 1;
        let id = entry.id;
        if self.entries().len() >= KEPT {
            self.trim(entry.policy.as_deref()).map_err(|error| self.broken(&error))?;
        }
        self.write(&line(&Event::Made(Box::new(entry.clone()))))?;
        self.written.entries.push(entry);
        Ok(id)
    }

    /// Notes what became of an entry.
    ///
    /// # Errors
    /// As for [`Docket::add`].
    pub fn became(&mut self, id: u64, state: State, time: &str) -> Result<(), Failure> {
        let became = Became { id, became: state, time: time.to_owned() };
        self.write(&line(&Event::Became(became.clone())))?;
        self.written.note(&became);
        Ok(())
    }

    fn broken(&self, error: &io::Error) -> Failure {
        broken("keep the docket", &self.home.folder, error)
    }

    fn write(&mut self, line: &[u8]) -> Result<(), Failure> {
        let end = self.written.end;
        let file = match &mut self.file {
            Ok(file) => file,
            Err(why) => {
                let error = io::Error::other(why.clone());
                return Err(self.broken(&error));
            }
        };
        // What a crash tore off is written over.
        let written = file
            .set_len(end)
            .and_then(|()| file.seek(SeekFrom::Start(end)))
            .and_then(|_| file.write_all(line))
            .and_then(|()| file.sync_all());
        match written {
            Ok(()) => {
                self.written.end += line.len() as u64;
                Ok(())
            }
            Err(error) => {
                // The next one to read it must not take half a line for one.
                let _ = file.set_len(end);
                Err(self.broken(&error))
            }
        }
    }

    /// Leaves out the oldest half of the entries, and policies that nobody refers to any more, but
    /// for one that is about to be.
    fn trim(&mut self, wanted: Option<&str>) -> io::Result<()> {
        let gone = self.entries().len() / 2;
        let last_good = self.confirmed().cloned();
        let mut kept: Vec<Entry> = self.written.entries.split_off(gone);
        if let Some(good) = last_good.filter(|good| kept.iter().all(|it| it.id != good.id)) {
            kept.insert(0, good);
        }
        self.written.entries = kept;
        self.rewrite()?;
        let used = self.entries().iter().filter_map(|it| it.policy.as_deref()).chain(wanted);
        kept::keep_only(&self.home, &used.collect::<BTreeSet<&str>>())
    }

    /// Writes down anew what can be read.
    ///
    /// # Errors
    /// The system's; then the file is what it was.
    pub(crate) fn rewrite(&mut self) -> io::Result<()> {
        let lines = self.entries().iter().map(|entry| line(&Event::Made(Box::new(entry.clone()))));
        let text: Vec<u8> = lines.flatten().collect();
        replace_private(&self.home.folder.join(FILE), &text)?;
        self.file = Ok(Self::file(&self.home)?);
        (self.written.end, self.written.lost) = (text.len() as u64, Vec::new());
        Ok(())
    }

    /// Keeps a policy under the digest of what it says, and gives that.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be written.
    pub fn keep(&self, host: &str, sources: &[Source]) -> Result<String, Failure> {
        let digest = kept::keep(&self.home, host, sources).map_err(|error| self.broken(&error))?;
        if sources.iter().any(|it| it.place.is_some()) {
            let confirmed = self.confirmed().and_then(|it| it.policy.as_deref());
            let needed: Vec<&str> = confirmed.into_iter().chain([digest.as_str()]).collect();
            kept::forget_places(&self.home, &needed).map_err(|error| self.broken(&error))?;
        }
        Ok(digest)
    }
}
