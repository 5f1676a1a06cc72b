//! Leaving control groups (cgroups(7)): whoever ends a session's or a service's group ends all that is
//! in it.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// The group that processes of ours move to, at the root of each hierarchy.
const OWN: &str = "tipstaff";

/// Moves the calling process to a group of its own in each hierarchy by which service managers end
/// what they started: version 2, and version 1's of the name `systemd`. Gives whether it could; who
/// may not make groups stays where it is.
pub fn leave_control_groups() -> bool {
    let mounts = fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
    let roots: Vec<PathBuf> = mounts.lines().filter_map(root).collect();
    let left = roots.iter().filter(|root| leave(root).is_ok()).count();
    left > 0 && left == roots.len()
}

/// Where a line of the mount table has such a hierarchy, with its root.
fn root(line: &str) -> Option<PathBuf> {
    let (mount, kind) = line.split_once(" - ")?;
    let mut kind = kind.split(' ');
    let name = kind.next()?;
    let options = kind.nth(1).unwrap_or_default();
    let managed =
        name == "cgroup2" || name == "cgroup" && options.split(',').any(|it| it == "name=systemd");
    let mut words = mount.split(' ').skip(3);
    let (root, place) = (words.next()?, words.next()?);
    (managed && root == "/").then(|| PathBuf::from(place))
}

fn leave(root: &Path) -> io::Result<()> {
    let group = root.join(OWN);
    match fs::create_dir(&group) {
        Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(error),
        _ => {}
    }
    fs::write(group.join("cgroup.procs"), std::process::id().to_string())
}
