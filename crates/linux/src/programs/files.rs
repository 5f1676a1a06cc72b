//! Which file a path stands for, in the kernel's own terms.

use super::needs::Needs;
use crate::LinuxError;
use crate::sys::bpf::{self, Purpose};
use rustix::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use rustix::fs::{Mode, OFlags, fstat, open};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::io::Read;
use std::path::Path;
use tipstaff_wire::WireError;
use tipstaff_wire::bpf::recognise::{Identity, OpenFile, open_files};

/// `BPF_PROG_TYPE_TRACING` and `BPF_TRACE_ITER`.
const TRACING: u32 = 26;
const ITERATOR: u32 = 28;
/// The first bytes of a script, and as much behind them as the kernel reads.
const SCRIPT: &[u8] = b"#!";
const FIRST_LINE: u64 = 256;

/// Asks the kernel which files are open here.
#[derive(Debug)]
pub(super) struct Files {
    link: OwnedFd,
}

impl Files {
    pub(super) fn open(needs: &Needs) -> Result<Self, LinuxError> {
        let doing = |source| LinuxError::system("ask the kernel which files are open", source);
        let code = open_files(needs.offsets)?;
        let purpose = Purpose { kind: TRACING, hook: ITERATOR, function: needs.open_files };
        let program = bpf::program("tipstaff_files", purpose, &code).map_err(doing)?;
        Ok(Self { link: bpf::link(program.as_fd(), None, ITERATOR).map_err(doing)? })
    }

    /// The identities of open files, by their descriptors.
    pub(super) fn identities(
        &self,
        of: &[BorrowedFd<'_>],
    ) -> Result<BTreeMap<i32, Identity>, LinuxError> {
        let doing = |source| LinuxError::system("ask the kernel which files are open", source);
        let mut bytes = Vec::new();
        let iterator = bpf::iterate(self.link.as_fd()).map_err(doing)?;
        std::fs::File::from(iterator).read_to_end(&mut bytes).map_err(doing)?;
        let records: Result<Vec<OpenFile>, WireError> =
            bytes.chunks(OpenFile::LENGTH).map(OpenFile::from_record).collect();
        let found: BTreeMap<i32, Identity> = records?
            .into_iter()
            .filter_map(|it| Some((i32::try_from(it.descriptor).ok()?, it.identity)))
            .collect();
        let wanted = of.iter().map(AsRawFd::as_raw_fd);
        Ok(wanted.filter_map(|it| Some((it, *found.get(&it)?))).collect())
    }

    /// The identity of the file at a path, links followed; `None` if there is none to run.
    pub(super) fn identity(&self, path: &str) -> Result<Option<Identity>, LinuxError> {
        let Some(file) = executable(Path::new(path)) else { return Ok(None) };
        let descriptor = file.as_raw_fd();
        let found = self.identities(&[file.as_fd()])?;
        Ok(found.get(&descriptor).copied())
    }

    /// The file that this process executes.
    pub(crate) fn ourselves(&self) -> Result<Identity, LinuxError> {
        let lost = || LinuxError::Refused {
            doing: "find this program's own file".into(),
            reason: "the kernel does not show it".into(),
        };
        self.identity("/proc/self/exe")?.ok_or_else(lost)
    }
}

/// Opens a file without reading it, if it is a regular one.
pub(super) fn executable(path: &Path) -> Option<OwnedFd> {
    let file = open(path, OFlags::PATH | OFlags::CLOEXEC, Mode::empty()).ok()?;
    let kind = rustix::fs::FileType::from_raw_mode(fstat(&file).ok()?.st_mode);
    kind.is_file().then_some(file)
}

/// What there is at a path that a rule names.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FileKind {
    /// A file that can be run.
    Program,
    /// A text that another program runs: the sockets are that one's.
    Script {
        /// The program that runs it.
        interpreter: String,
    },
    /// A file that may not be executed.
    NotExecutable,
    /// Nothing, or no regular file.
    Missing,
}

/// What there is at a path.
#[must_use]
pub(crate) fn kind_of(path: &Path) -> FileKind {
    let Some(file) = executable(path) else { return FileKind::Missing };
    if fstat(&file).is_ok_and(|it| it.st_mode & 0o111 == 0) {
        return FileKind::NotExecutable;
    }
    let mut start = Vec::new();
    // Who may not read it sees a program: most are.
    let read = std::fs::File::open(path).and_then(|it| it.take(FIRST_LINE).read_to_end(&mut start));
    let line = start.split(|&byte| byte == b'\n').next().unwrap_or_default();
    match line.strip_prefix(SCRIPT) {
        Some(rest) if read.is_ok() => {
            let rest = String::from_utf8_lossy(rest);
            let interpreter = rest.split_whitespace().next().unwrap_or_default().to_owned();
            FileKind::Script { interpreter }
        }
        _ => FileKind::Program,
    }
}
