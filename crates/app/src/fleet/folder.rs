//! A folder as the carrier: on this machine, or a disk that several share.

use super::carrier::{Carrier, Put};
use crate::Failure;
use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, ErrorKind, Read, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

/// Sealed bundles are in this folder of it.
const SEALED: &str = "sealed";
/// So their names end, behind the number.
const ENDING: &str = ".sealed";
/// Names are in the order of their numbers.
const DIGITS: usize = 12;
/// A policy has at most 256 MiB, and a sealed one little more.
const LARGEST: u64 = 320 * 1024 * 1024;

/// A folder as the carrier.
#[derive(Clone, Debug)]
pub(super) struct Folder {
    path: PathBuf,
}

impl Folder {
    pub(super) fn at(path: &Path) -> Self {
        Self { path: path.join(SEALED) }
    }

    fn file(&self, number: u64) -> PathBuf {
        self.path.join(format!("{number:0DIGITS$}{ENDING}"))
    }

    fn failed(&self, what: &str, error: &io::Error) -> Failure {
        let help = match error.kind() {
            ErrorKind::PermissionDenied => {
                "whoever seals must be able to write there, and hosts to read"
            }
            ErrorKind::NotFound => "the folder of the fleet is named with --carrier",
            _ => "look whether the disk is there, and has room",
        };
        let message = format!("cannot {what} in {}: {error}", self.path.display());
        Failure::System { message, help: vec![help.into()] }
    }

    /// Writes the whole file under a name of its own, and then gives it the one that counts, which a file that is
    /// there keeps.
    fn write(&self, draft: &Path, number: u64, bytes: &[u8]) -> io::Result<Put> {
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o644).open(draft)?;
        file.write_all(bytes)?;
        file.sync_all()?;
        match fs::hard_link(draft, self.file(number)) {
            Ok(()) => {}
            Err(error) if error.kind() == ErrorKind::AlreadyExists => return Ok(Put::Taken),
            Err(error) => return Err(error),
        }
        File::open(&self.path)?.sync_all()?;
        Ok(Put::Done)
    }
}

impl Carrier for Folder {
    fn numbers(&self) -> Result<Vec<u64>, Failure> {
        let failed = |error| self.failed("look", &error);
        let above = self.path.parent().unwrap_or(&self.path);
        let files = match fs::read_dir(&self.path) {
            // A fleet of which nothing was sealed yet; a disk that is not there is another thing.
            Err(error) if error.kind() == ErrorKind::NotFound && above.is_dir() => {
                return Ok(Vec::new());
            }
            files => files.map_err(failed)?,
        };
        let mut numbers = Vec::new();
        for file in files {
            let name = file.map_err(failed)?.file_name();
            let number = name.to_str().and_then(|it| it.strip_suffix(ENDING));
            let number = number.filter(|it| it.len() == DIGITS);
            numbers.extend(number.and_then(|it| it.parse::<u64>().ok()).filter(|&it| it > 0));
        }
        numbers.sort_unstable_by(|one, other| other.cmp(one));
        Ok(numbers)
    }

    fn bundle(&self, number: u64) -> Result<Option<Vec<u8>>, Failure> {
        match read(&self.file(number)) {
            Ok(bytes) => Ok(Some(bytes)),
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
            Err(error) => Err(self.failed(&format!("read number {number}"), &error)),
        }
    }

    fn put(&self, number: u64, bytes: &[u8]) -> Result<Put, Failure> {
        let made = DirBuilder::new().mode(0o755).create(&self.path);
        if let Err(error) = made
            && error.kind() != ErrorKind::AlreadyExists
        {
            return Err(self.failed("write", &error));
        }
        let draft = self.path.join(format!(".{number}.{}.new", std::process::id()));
        let _ = fs::remove_file(&draft);
        let put = self.write(&draft, number, bytes);
        let _ = fs::remove_file(&draft);
        put.map_err(|error| self.failed("write", &error))
    }

    fn place(&self, number: u64) -> String {
        self.file(number).display().to_string()
    }
}

/// What is in a file that may be a sealed bundle.
pub(super) fn read(path: &Path) -> io::Result<Vec<u8>> {
    // A pipe must not make anybody wait.
    let flags = rustix::fs::OFlags::NONBLOCK.bits();
    let mut options = OpenOptions::new();
    let file =
        options.read(true).custom_flags(i32::try_from(flags).unwrap_or_default()).open(path)?;
    if !file.metadata()?.is_file() {
        return Err(io::Error::new(ErrorKind::InvalidInput, "it is not a plain file"));
    }
    let mut bytes = Vec::new();
    let read = file.take(LARGEST + 1).read_to_end(&mut bytes)?;
    if read as u64 > LARGEST {
        return Err(io::Error::new(
            ErrorKind::InvalidData,
            "it is too large to be a sealed bundle",
        ));
    }
    Ok(bytes)
}
