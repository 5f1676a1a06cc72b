//! Which processes run which files.

use super::files::{FileKind, Files, executable, kind_of};
use super::needs::Needs;
use super::{Hooks, Recognition};
use crate::LinuxError;
use crate::ruleset::Marks;
use crate::users::user_number;
use rustix::fd::{AsFd, AsRawFd, OwnedFd};
use rustix::fs::fstat;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use tipstaff_wire::bpf::recognise::{Identity, Owner};

/// As many files are held open at a time.
const AT_ONCE: usize = 200;
/// What the system says behind the path of a file that is not there any more.
const REMOVED: &str = " (deleted)";

/// Every file that some process executes, with the processes.
pub(super) fn executed(files: &Files) -> Result<BTreeMap<Identity, Vec<u32>>, LinuxError> {
    // One process for each file is asked, by what everybody may see of files.
    let mut alike: BTreeMap<Seen, Vec<u32>> = BTreeMap::new();
    for pid in processes() {
        let Some(file) = executable(&exe(pid)) else { continue };
        let Ok(status) = fstat(&file) else { continue };
        alike.entry((status.st_dev, status.st_ino)).or_default().push(pid);
    }
    let groups: Vec<(&Seen, &Vec<u32>)> = alike.iter().collect();
    let mut found: BTreeMap<Identity, Vec<u32>> = BTreeMap::new();
    for some in groups.chunks(AT_ONCE) {
        let open: Vec<_> = some.iter().filter_map(|it| Some((still(*it.0, it.1)?, it.1))).collect();
        let borrowed: Vec<_> = open.iter().map(|it| it.0.as_fd()).collect();
        let identities = files.identities(&borrowed)?;
        for (file, pids) in &open {
            if let Some(identity) = identities.get(&file.as_raw_fd()) {
                found.entry(*identity).or_default().extend(pids.iter().copied());
            }
        }
    }
    Ok(found)
}

/// A file by its device and its number there.
type Seen = (u64, u64);

/// The file that these processes execute, by the first of them that still does: others may have ended
/// by now, and the numbers of some be others'.
fn still(seen: Seen, pids: &[u32]) -> Option<OwnedFd> {
    pids.iter()
        .filter_map(|pid| executable(&exe(*pid)))
        .find(|file| fstat(file).is_ok_and(|it| (it.st_dev, it.st_ino) == seen))
}

/// The numbers of all processes.
pub(super) fn processes() -> Vec<u32> {
    let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
    entries.filter_map(|it| it.file_name().to_str()?.parse().ok()).collect()
}

fn exe(pid: u32) -> PathBuf {
    format!("/proc/{pid}/exe").into()
}

/// A process that runs a program which rules name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Process {
    /// The number of the process.
    pub pid: u32,
    /// Whether the file it runs is not the one at the path any more.
    pub outdated: bool,
    /// Whether its sockets are recognised.
    pub recognised: bool,
}

/// A program that rules name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProgramFile {
    /// The path by which rules name it.
    pub path: String,
    /// What there is at that path.
    pub kind: FileKind,
    /// Whether the file that is there now is recognised.
    pub recognised: bool,
    /// Other paths that rules name and that lead to the same file.
    pub same_as: Vec<String>,
    /// The processes that run it.
    pub processes: Vec<Process>,
}

/// A user whom rules name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NamedUser {
    /// By what rules name them.
    pub name: String,
    /// Their number now; `None` if the machine knows nobody of that name.
    pub number: Option<u32>,
    /// Whether sockets of that number are recognised as theirs.
    pub recognised: bool,
}

/// How things stand with the programs and users that rules name.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Standings {
    /// Every program that rules name.
    pub files: Vec<ProgramFile>,
    /// Every user that rules name.
    #[serde(default)]
    pub users: Vec<NamedUser>,
    /// What the kernel recognises; `None` if nothing of ours is there.
    pub recognition: Option<Recognition>,
}

/// Looks how things stand with the programs that the rules in force name.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us look.
pub fn look(marks: &Marks) -> Result<Standings, LinuxError> {
    let needs = Needs::find()?;
    let recognition = Hooks::read(&needs)?;
    let files = Files::open(&needs)?;
    let executed = executed(&files)?;
    let numbers = marks.numbers();
    let programs = || numbers.keys().filter_map(|it| it.program.as_ref());
    let mut identities: BTreeMap<&String, Identity> = BTreeMap::new();
    for path in programs().collect::<BTreeSet<_>>() {
        identities.extend(files.identity(path)?.map(|it| (path, it)));
    }
    let known_as = |owner: Owner, name: &String| {
        let standing = recognition.as_ref().and_then(|it| it.owners.get(&owner));
        standing.is_some_and(|it| {
            let number = Marks::number_in(marks.mask, it.bits);
            let lists = marks.lists.iter().filter(|(list, _)| list.contains(name));
            lists.flat_map(|it| it.1).any(|it| it.number == number)
        })
    };
    let known = |identity: &Identity, path: &String| known_as(Owner::file(*identity), path);
    let mut users = Vec::new();
    for name in numbers.keys().filter_map(|it| it.user.as_ref()).collect::<BTreeSet<_>>() {
        let number = user_number(name)?;
        let owner = number.map(|it| Owner { file: None, user: Some(it) });
        let recognised = owner.is_some_and(|it| known_as(it, name));
        users.push(NamedUser { name: name.clone(), number, recognised });
    }
    let file = |path: &String| {
        let now = identities.get(path);
        let mut processes = Vec::new();
        for (identity, pids) in &executed {
            let outdated = now != Some(identity);
            let recognised = known(identity, path);
            let of_path = |pid: &&u32| !outdated || was(**pid, path);
            processes.extend(pids.iter().filter(of_path).map(|&pid| Process {
                pid,
                outdated,
                recognised,
            }));
        }
        processes.sort_by_key(|it| it.pid);
        let same = |it: &(&&String, &Identity)| Some(it.1) == now && **it.0 != *path;
        ProgramFile {
            kind: kind_of(Path::new(path)),
            recognised: now.is_some_and(|it| known(it, path)),
            same_as: identities.iter().filter(same).map(|it| (*it.0).clone()).collect(),
            path: path.clone(),
            processes,
        }
    };
    let paths: BTreeSet<&String> = programs().collect();
    let listed = paths.into_iter().map(file).collect();
    Ok(Standings { files: listed, users, recognition })
}

/// Whether the file that these processes run is nowhere any more.
pub(crate) fn is_removed(pids: &[u32]) -> bool {
    pids.iter().any(|pid| removed(*pid).is_some())
}

/// Where the file was that a process runs, if it is nowhere any more.
fn removed(pid: u32) -> Option<String> {
    let link = fs::read_link(exe(pid)).ok()?;
    link.to_str()?.strip_suffix(REMOVED).map(str::to_owned)
}

/// Whether the process runs the file that was once at the path.
fn was(pid: u32, path: &str) -> bool {
    let link = removed(pid);
    // The system knows the file by the path that links lead to.
    let real = fs::canonicalize(path).ok();
    link.is_some_and(|it| it == path || real.as_deref() == Some(Path::new(&it)))
}

#[cfg(test)]
mod tests {
    use super::{processes, still};
    use rustix::fs::stat;

    #[test]
    fn a_process_that_has_ended_does_not_hide_the_others_of_its_file() {
        let own = std::process::id();
        let file = stat("/proc/self/exe").expect("our file");
        let ended = (1..).find(|it| !processes().contains(it)).expect("a number without a process");
        let other = 1;
        assert!(still((file.st_dev, file.st_ino), &[ended, other, own]).is_some());
        assert!(still((file.st_dev, file.st_ino), &[ended, other]).is_none(), "it is not theirs");
    }
}
