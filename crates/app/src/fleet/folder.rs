//! A folder as the carrier: on this machine, or a disk that several share.

use super::carrier::{Carrier, Put, Shelf, Word, is_host};
use crate::Failure;
use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, ErrorKind, Read, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

/// The last word of each host is in this folder of it.
const HOSTS: &str = "hosts";
const WORD: &str = ".json";
/// Names are in the order of their numbers.
const DIGITS: usize = 12;
/// A policy has at most 256 MiB, and a sealed one little more.
pub(super) const LARGEST: u64 = 320 * 1024 * 1024;
/// A host's word is much shorter.
const WORD_AT_MOST: u64 = 1024 * 1024;

impl Shelf {
    fn folder(self) -> &'static str {
        match self {
            Self::Sealed => "sealed",
            Self::Orders => "orders",
            Self::Questions => "questions",
        }
    }

    /// So names end, behind the number.
    fn ending(self) -> &'static str {
        match self {
            Self::Sealed => ".sealed",
            Self::Orders | Self::Questions => ".json",
        }
    }
}

/// A folder as the carrier.
#[derive(Clone, Debug)]
pub(super) struct Folder {
    path: PathBuf,
}

impl Folder {
    pub(super) fn at(path: &Path) -> Self {
        Self { path: path.to_owned() }
    }

    fn file(&self, shelf: Shelf, number: u64) -> PathBuf {
        self.path.join(shelf.folder()).join(format!("{number:0DIGITS$}{}", shelf.ending()))
    }

    fn failed(&self, what: &str, error: &io::Error) -> Failure {
        let help = match error.kind() {
            ErrorKind::PermissionDenied => {
                "who seals writes in `sealed` and `orders`, hosts write in `hosts` and read all"
            }
            ErrorKind::NotFound => "--carrier names the folder of the fleet",
            _ => "look whether the disk is there, and has room",
        };
        let message = format!("cannot {what} in {}: {error}", self.path.display());
        Failure::System { message, help: vec![help.into()] }
    }

    /// What is in a folder of it; nothing where none is. Where the whole is not there, that is another thing: a disk that
    /// is not mounted, or a mistake.
    fn list(&self, folder: &str) -> Result<Vec<String>, Failure> {
        let failed = |error| self.failed("look", &error);
        let files = match fs::read_dir(self.path.join(folder)) {
            Err(error) if error.kind() == ErrorKind::NotFound && self.path.is_dir() => {
                return Ok(Vec::new());
            }
            files => files.map_err(failed)?,
        };
        let mut names = Vec::new();
        for file in files {
            names.extend(file.map_err(failed)?.file_name().into_string());
        }
        Ok(names)
    }

    fn make(&self, folder: &str) -> io::Result<PathBuf> {
        let folder = self.path.join(folder);
        match DirBuilder::new().mode(0o755).create(&folder) {
            Err(error) if error.kind() != ErrorKind::AlreadyExists => return Err(error),
            _ => {}
        }
        // Whoever can write at the carrier must not have root write elsewhere.
        if fs::symlink_metadata(&folder)?.is_dir() {
            return Ok(folder);
        }
        let message = format!("{} is no folder", folder.display());
        Err(io::Error::new(ErrorKind::NotADirectory, message))
    }

    /// Writes a file under a name of its own, for `give` to give it the one that counts.
    fn write<T>(
        &self,
        folder: &str,
        name: &str,
        bytes: &[u8],
        give: impl FnOnce(&Path, &Path) -> io::Result<T>,
    ) -> io::Result<T> {
        let folder = self.make(folder)?;
        let draft = folder.join(format!(".{name}.{}.new", std::process::id()));
        let _ = fs::remove_file(&draft);
        let write = || {
            let mut file =
                OpenOptions::new().write(true).create_new(true).mode(0o644).open(&draft)?;
            file.write_all(bytes)?;
            file.sync_all()?;
            let given = give(&draft, &folder.join(name))?;
            File::open(&folder)?.sync_all()?;
            Ok(given)
        };
        let written = write();
        let _ = fs::remove_file(&draft);
        written
    }
}

impl Carrier for Folder {
    fn numbers(&self, shelf: Shelf) -> Result<Vec<u64>, Failure> {
        let names = self.list(shelf.folder())?;
        let number = |name: &String| {
            let digits = name.strip_suffix(shelf.ending()).filter(|it| it.len() == DIGITS)?;
            digits.parse().ok().filter(|&it: &u64| it > 0)
        };
        let mut numbers: Vec<u64> = names.iter().filter_map(number).collect();
        numbers.sort_unstable_by(|one, other| other.cmp(one));
        Ok(numbers)
    }

    fn read(&self, shelf: Shelf, number: u64) -> Result<Option<Vec<u8>>, Failure> {
        match read(&self.file(shelf, number), LARGEST) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
            Err(error) => Err(self.failed(&format!("read number {number}"), &error)),
        }
    }

    fn put(&self, shelf: Shelf, number: u64, bytes: &[u8]) -> Result<Put, Failure> {
        let name = format!("{number:0DIGITS$}{}", shelf.ending());
        // A name that is there keeps what it has.
        let put = self.write(shelf.folder(), &name, bytes, |draft, place| {
            match fs::hard_link(draft, place) {
                Ok(()) => Ok(Put::Done),
                Err(error) if error.kind() == ErrorKind::AlreadyExists => Ok(Put::Taken),
                Err(error) => Err(error),
            }
        });
        put.map_err(|error| self.failed("write", &error))
    }

    fn place(&self, shelf: Shelf, number: u64) -> String {
        self.file(shelf, number).display().to_string()
    }

    fn tell(&self, host: &str, word: &[u8]) -> Result<(), Failure> {
        // Also one that came from another machine.
        if !is_host(host.trim_start_matches('.')) {
            let why = io::Error::new(ErrorKind::InvalidInput, "no host is called so");
            return Err(self.failed("leave word", &why));
        }
        let name = format!("{host}{WORD}");
        let told = self.write(HOSTS, &name, word, |draft, place| fs::rename(draft, place));
        told.map_err(|error| self.failed("leave word", &error))
    }

    fn word_of(&self, host: &str) -> Result<Option<Vec<u8>>, Failure> {
        match read(&self.path.join(HOSTS).join(format!("{host}{WORD}")), WORD_AT_MOST) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
            Err(error) => Err(self.failed("read a word", &error)),
        }
    }

    fn told(&self) -> Result<Vec<Word>, Failure> {
        let mut words = Vec::new();
        for name in self.list(HOSTS)? {
            let Some(host) = name.strip_suffix(WORD).filter(|it| is_host(it)) else { continue };
            let path = self.path.join(HOSTS).join(&name);
            let written = fs::metadata(&path).and_then(|it| it.modified());
            let bytes = read(&path, WORD_AT_MOST);
            // One that is replaced at this moment is there all the same; of what cannot be one, nothing is read.
            let (Ok(written), Ok(bytes)) = (written, bytes) else { continue };
            let ago = SystemTime::now().duration_since(written).unwrap_or_default();
            words.push(Word { host: host.to_owned(), bytes, ago });
        }
        words.sort_by(|one, other| one.host.cmp(&other.host));
        Ok(words)
    }
}

/// What is in a file that somebody else may have put there.
pub(super) fn read(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    // A pipe must not make anybody wait.
    let flags = i32::try_from(rustix::fs::OFlags::NONBLOCK.bits()).unwrap_or_default();
    let file = OpenOptions::new().read(true).custom_flags(flags).open(path)?;
    if !file.metadata()?.is_file() {
        return Err(io::Error::new(ErrorKind::InvalidInput, "it is not a plain file"));
    }
    let mut bytes = Vec::new();
    let read = file.take(most + 1).read_to_end(&mut bytes)?;
    if read as u64 > most {
        return Err(io::Error::new(ErrorKind::InvalidData, "it is too large to be one of ours"));
    }
    Ok(bytes)
}
