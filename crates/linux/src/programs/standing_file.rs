//! What there is at the paths of programs.

use super::files::{FileKind, kind_of};
use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use tipstaff_core::analysis::ProgramFile;

/// What there is at a path.
#[must_use]
pub(crate) fn file_at(path: &str) -> ProgramFile {
    let file = Path::new(path);
    match kind_of(file) {
        FileKind::Missing => ProgramFile::Missing,
        FileKind::NotExecutable => ProgramFile::NotExecutable,
        FileKind::Script { interpreter } => ProgramFile::Script { interpreter },
        FileKind::Program => {
            let real = fs::canonicalize(file).ok();
            let names =
                real.as_ref().and_then(|it| fs::metadata(it).ok()).map_or(1, |it| it.nlink());
            ProgramFile::Program {
                writable: real.as_deref().and_then(writable),
                names,
                real: real.map(|it| it.display().to_string()),
            }
        }
    }
}

/// Whoever else than root can change the program: its file, a folder above it, or what a process of it
/// has loaded.
fn writable(real: &Path) -> Option<(Option<u32>, String)> {
    let mut parts: Vec<PathBuf> = real.ancestors().map(Path::to_path_buf).collect();
    parts.extend(loaded_by(real));
    parts.iter().find_map(|part| {
        let metadata = fs::metadata(part).ok()?;
        // In a folder with the sticky bit only owners replace their files.
        let sticky = metadata.is_dir() && metadata.mode() & 0o1000 != 0;
        let whose = match metadata.uid() {
            0 if metadata.mode() & 0o022 == 0 || sticky => return None,
            0 => None,
            owner => Some(owner),
        };
        Some((whose, part.display().to_string()))
    })
}

/// The files that processes of a program have loaded to execute.
fn loaded_by(program: &Path) -> BTreeSet<PathBuf> {
    let mut found = BTreeSet::new();
    for process in fs::read_dir("/proc").into_iter().flatten().flatten() {
        if fs::read_link(process.path().join("exe")).ok().as_deref() != Some(program) {
            continue;
        }
        let maps = fs::read_to_string(process.path().join("maps")).unwrap_or_default();
        let executed =
            maps.lines().filter(|it| it.split(' ').nth(1).is_some_and(|it| it.contains('x')));
        let files = executed.filter_map(|it| it.find('/').map(|at| PathBuf::from(&it[at..])));
        found.extend(files);
    }
    found
}
