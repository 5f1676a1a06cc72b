//! What recognising programs takes, and whether it is there.

use crate::LinuxError;
use crate::sys::mark;
use rustix::fd::{AsFd, OwnedFd};
use rustix::fs::{Mode, OFlags, open};
use rustix::mount::{MountFlags, mount};
use rustix::net::{AddressFamily, SocketFlags, SocketType, socket_with};
use rustix::thread::CapabilitySet;
use std::collections::BTreeSet;
use std::ffi::OsString;
use std::fs;
use std::os::unix::ffi::OsStringExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use tipstaff_wire::bpf::Btf;
use tipstaff_wire::bpf::recognise::Offsets;

const TYPES: &str = "/sys/kernel/btf/vmlinux";
/// Where a bpf file system usually is.
const PINS: &str = "/sys/fs/bpf";

/// What recognising programs takes.
#[derive(Debug)]
pub(super) struct Needs {
    /// Where the kernel keeps what we read.
    pub offsets: Offsets,
    /// The number of the kernel's function that iterators over open files are attached to.
    pub open_files: u32,
    /// The root of the control groups that this process sees.
    pub cgroup: OwnedFd,
    /// The folder of our pins.
    pub pins: PathBuf,
    /// The number of our network namespace.
    pub namespace: u64,
}

/// What the kernel or this process lacks to recognise programs, as ends of sentences.
#[must_use]
pub fn lacking() -> Vec<String> {
    match Needs::find() {
        Err(LinuxError::Lacking { what, .. }) => what,
        Err(error) => vec![error.to_string()],
        Ok(_) => Vec::new(),
    }
}

impl Needs {
    /// Looks for everything.
    ///
    /// # Errors
    /// [`LinuxError::Lacking`] with all that is not there.
    pub(super) fn find() -> Result<Self, LinuxError> {
        fn or_lack<T>(lacks: &mut Vec<String>, found: Result<T, String>) -> Option<T> {
            found.map_err(|it| lacks.push(it)).ok()
        }
        let mut lacks = Vec::new();
        let permitted = or_lack(&mut lacks, permission()).is_some();
        let cgroup = or_lack(&mut lacks, cgroup_root());
        let namespace = or_lack(&mut lacks, namespace());
        let types = or_lack(&mut lacks, types());
        let pins = or_lack(&mut lacks, pins());
        match (cgroup, namespace, types, pins) {
            (Some(cgroup), Some(namespace), Some((offsets, open_files)), Some(pins))
                if permitted =>
            {
                let pins = of_namespace(&pins, namespace);
                Ok(Self { offsets, open_files, cgroup, pins, namespace })
            }
            _ => Err(LinuxError::Lacking { what: lacks, permitted }),
        }
    }
}

/// Whether it is sure that nothing is pinned for this namespace: to find out what else is needed takes time.
pub(super) fn nothing_is_pinned() -> bool {
    let (Ok(()), Ok(namespace), Ok(pins)) = (permission(), namespace(), pins()) else {
        return false;
    };
    of_namespace(&pins, namespace).try_exists().is_ok_and(|there| !there)
}

/// The folder of the pins of the calling thread's namespace, which has that number.
fn of_namespace(pins: &Path, namespace: u64) -> PathBuf {
    let (number, list) = (own_number().unwrap_or_default(), list_of("thread-self"));
    pins.join(format!("{FOLDER}{namespace}-{number}-{}", list.unwrap_or_default()))
}

/// What the folders of our pins are called, before the namespace's three numbers: the one that no other
/// ever has, and two by which it is seen whether it is still there, its own in /proc and that of its list
/// of links, which shows for processes that cannot be looked into any further.
const FOLDER: &str = "tipstaff-";

impl Needs {
    /// The folders of namespaces that nobody is in any more, nobody holds open and that have no name.
    pub(crate) fn abandoned(&self) -> Vec<String> {
        let Some(all) = self.pins.parent() else { return Vec::new() };
        let names = fs::read_dir(all).into_iter().flatten().flatten();
        let names = names.filter_map(|it| it.file_name().into_string().ok());
        let others: Vec<(String, u64, u64)> = names
            .filter(|it| self.pins.file_name() != Some(it.as_ref()))
            .filter_map(|it| {
                let mut numbers = it.strip_prefix(FOLDER)?.split('-').skip(1);
                let number = numbers.next()?.parse().ok()?;
                let list = numbers.next()?.parse().ok()?;
                Some((it, number, list))
            })
            .collect();
        if others.is_empty() {
            return Vec::new();
        }
        // Where that cannot be looked up, all are taken to be there.
        let Some(alive) = namespaces_alive() else { return Vec::new() };
        let gone = |it: &(String, u64, u64)| !alive.0.contains(&it.1) && !alive.1.contains(&it.2);
        others.into_iter().filter(gone).map(|it| it.0).collect()
    }
}

/// The number of the calling thread's network namespace, as /proc has it.
fn own_number() -> Option<u64> {
    number_of(&fs::read_link("/proc/thread-self/ns/net").ok()?)
}

/// The number in `net:[4026531840]`.
fn number_of(link: &Path) -> Option<u64> {
    link.to_str()?.strip_prefix("net:[")?.strip_suffix(']')?.parse().ok()
}

/// The number of the list of links that a thread sees.
fn list_of(thread: &str) -> Option<u64> {
    Some(fs::metadata(format!("/proc/{thread}/net/dev")).ok()?.ino())
}

/// The numbers of all network namespaces that some thread is in or holds open, or that are mounted
/// somewhere, and those of the lists of links that threads see; `None` if processes cannot be listed.
fn namespaces_alive() -> Option<(BTreeSet<u64>, BTreeSet<u64>)> {
    let (mut alive, mut lists) = (BTreeSet::new(), BTreeSet::new());
    for process in fs::read_dir("/proc").ok()?.flatten() {
        let name = process.file_name();
        if !name.to_str()?.bytes().all(|it| it.is_ascii_digit()) {
            continue;
        }
        let path = process.path();
        for thread in fs::read_dir(path.join("task")).into_iter().flatten().flatten() {
            let link = fs::read_link(thread.path().join("ns/net"));
            alive.extend(link.ok().as_deref().and_then(number_of));
            let list = fs::metadata(thread.path().join("net/dev"));
            lists.extend(list.map(|it| it.ino()));
        }
        for file in fs::read_dir(path.join("fd")).into_iter().flatten().flatten() {
            alive.extend(fs::read_link(file.path()).ok().as_deref().and_then(number_of));
        }
        let mounts = fs::read_to_string(path.join("mountinfo")).unwrap_or_default();
        let roots = mounts.lines().filter(|it| it.contains(" - nsfs "));
        alive.extend(roots.filter_map(|it| number_of(Path::new(it.split(' ').nth(3)?))));
    }
    Some((alive, lists))
}

/// Whether this process may load programs that read the kernel's structures.
fn permission() -> Result<(), String> {
    let had = rustix::thread::capabilities(None).map_err(|error| error.to_string())?.effective;
    let all = CapabilitySet::SYS_ADMIN.union(CapabilitySet::NET_ADMIN);
    let few = CapabilitySet::BPF | CapabilitySet::PERFMON | CapabilitySet::NET_ADMIN;
    if !had.contains(all) && !had.contains(few) {
        return Err("the right to load programs into the kernel (root has it; it is CAP_BPF, \
                    CAP_PERFMON and CAP_NET_ADMIN)"
            .into());
    }
    // Within a user namespace root may do much, but not this.
    let map = fs::read_to_string("/proc/self/uid_map").unwrap_or_default();
    let whole = map.split_whitespace().eq(["0", "0", "4294967295"]);
    if whole {
        Ok(())
    } else {
        Err("the right to load programs into the kernel, which nobody has within a user \
             namespace, such as a container or lab without privileges"
            .into())
    }
}

fn cgroup_root() -> Result<OwnedFd, String> {
    let Some(path) = mounted("cgroup2") else {
        return Err("control groups of version 2: none of them is mounted here whose root this \
                    process is in (`mount -t cgroup2 none /sys/fs/cgroup`)"
            .into());
    };
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let root = open(&path, flags, Mode::empty());
    root.map_err(|error| format!("{}: {error}", path.display()))
}

/// The folder of the bpf file system, or where one can be mounted.
fn pins() -> Result<PathBuf, String> {
    let place = mounted("bpf").unwrap_or_else(|| PathBuf::from(PINS));
    if place.is_dir() {
        Ok(place)
    } else {
        Err(format!("a bpf file system: none is mounted, and there is no {PINS} to mount one at"))
    }
}

/// Mounts a bpf file system if none is mounted.
///
/// # Errors
/// [`LinuxError`] if the system refuses.
pub(crate) fn mount_pins() -> Result<(), LinuxError> {
    if has_pins() {
        return Ok(());
    }
    let flags = MountFlags::NOSUID | MountFlags::NOEXEC | MountFlags::NODEV;
    mount("bpf", PINS, "bpf", flags, None)
        .map_err(|error| LinuxError::system(format!("mount a bpf file system at {PINS}"), error))
}

/// Whether a bpf file system is mounted.
pub(crate) fn has_pins() -> bool {
    mounted("bpf").is_some()
}

/// Whether anything of ours is pinned, of whatever namespace: without that, nothing is recognised. To look that up costs
/// little; to look at what is recognised, as much as reading all of the kernel's types.
#[must_use]
pub fn may_recognise() -> bool {
    let place = mounted("bpf").unwrap_or_else(|| PathBuf::from(PINS));
    let names = fs::read_dir(place).into_iter().flatten().flatten();
    names.into_iter().any(|it| it.file_name().as_encoded_bytes().starts_with(FOLDER.as_bytes()))
}

/// Where the root of a file system of that kind is mounted.
fn mounted(kind: &str) -> Option<PathBuf> {
    let mounts = fs::read("/proc/self/mountinfo").ok()?;
    mounts.split(|&byte| byte == b'\n').find_map(|line| {
        let mut fields = line.split(|&byte| byte == b' ');
        let (root, place) = (fields.nth(3)?, fields.next()?);
        let mut after = fields.skip_while(|it| *it != b"-");
        let found = after.nth(1)? == kind.as_bytes() && root == b"/";
        found.then(|| PathBuf::from(OsString::from_vec(plain(place))))
    })
}

/// Blanks and the like are written as octal numbers there (proc(5)).
fn plain(escaped: &[u8]) -> Vec<u8> {
    let mut plain = Vec::with_capacity(escaped.len());
    let mut rest = escaped;
    while let [first, behind @ ..] = rest {
        let octal = behind.get(..3).and_then(|it| std::str::from_utf8(it).ok());
        let number = octal.and_then(|it| u8::from_str_radix(it, 8).ok());
        if let (b'\\', Some(byte)) = (first, number) {
            plain.push(byte);
            rest = &behind[3..];
        } else {
            plain.push(*first);
            rest = behind;
        }
    }
    plain
}

fn types() -> Result<(Offsets, u32), String> {
    let bytes = fs::read(TYPES).map_err(|error| {
        format!("the kernel's description of its types, {TYPES} (CONFIG_DEBUG_INFO_BTF): {error}")
    })?;
    let types = Btf::parse(&bytes).map_err(|error| format!("{TYPES}: {error}"))?;
    let offsets = Offsets::of(&types).map_err(|(structure, field)| {
        format!("the field {field} of {structure}: this kernel has none of that name")
    })?;
    let open_files = types.function("bpf_iter_task_file");
    let open_files = open_files.ok_or("iterators over open files (Linux 5.8)")?;
    Ok((offsets, open_files))
}

/// The number of the calling thread's network namespace.
fn namespace() -> Result<u64, String> {
    let lack = |error: &dyn std::fmt::Display| {
        format!("numbers of network namespaces (Linux 5.14): {error}")
    };
    let socket = socket_with(AddressFamily::INET, SocketType::DGRAM, SocketFlags::CLOEXEC, None)
        .map_err(|error| lack(&error))?;
    mark::namespace_cookie(socket.as_fd()).map_err(|error| lack(&error))
}

#[cfg(test)]
mod tests {
    use super::plain;

    #[test]
    fn blanks_in_mount_points_are_read() {
        assert_eq!(plain(br"/mnt/two\040words\134"), b"/mnt/two words\\");
        assert_eq!(plain(br"/mnt/odd\9"), br"/mnt/odd\9");
    }
}
