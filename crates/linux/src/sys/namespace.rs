//! Network namespaces.

use crate::LinuxError;
use rustix::fd::{AsFd, AsRawFd, OwnedFd, RawFd};
use rustix::fs::{Mode, OFlags, open};
use rustix::mount::{MountPropagationFlags, mount_change};
use rustix::thread::{LinkNameSpaceType, UnshareFlags, move_into_link_name_space, unshare_unsafe};
use std::io;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::Command;

/// A network namespace. It lives as long as somebody holds it open or runs in it.
#[derive(Debug)]
pub struct Namespace {
    handle: OwnedFd,
}

const OF_THIS_THREAD: &str = "/proc/thread-self/ns/net";

impl Namespace {
    /// The one that the calling thread is in.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn current() -> Result<Self, LinuxError> {
        Self::open(Path::new(OF_THIS_THREAD))
    }

    /// The one that a file stands for, such as `/proc/PID/ns/net`.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn open(path: &Path) -> Result<Self, LinuxError> {
        let handle =
            open(path, OFlags::RDONLY | OFlags::CLOEXEC, Mode::empty()).map_err(|source| {
                LinuxError::system(format!("open the network namespace {}", path.display()), source)
            })?;
        Ok(Self { handle })
    }

    /// A new one, with nothing in it but a loopback link that is down.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn create() -> Result<Self, LinuxError> {
        let made = std::thread::scope(|scope| {
            scope
                .spawn(|| {
                    unshare(UnshareFlags::NEWNET)
                        .map_err(|source| LinuxError::system("make a network namespace", source))?;
                    Self::current()
                })
                .join()
        });
        made.unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    }

    /// A file that stands for the namespace while this process holds it open.
    #[must_use]
    pub fn file(&self) -> std::path::PathBuf {
        format!("/proc/{}/fd/{}", std::process::id(), self.handle.as_raw_fd()).into()
    }

    /// The number of the descriptor, for netlink messages that name a namespace.
    pub(crate) fn raw(&self) -> RawFd {
        self.handle.as_raw_fd()
    }

    /// Runs `work` in the namespace, on a thread of its own, and gives what it gave.
    ///
    /// # Errors
    /// [`LinuxError`] if the namespace cannot be entered.
    pub fn run<T: Send>(&self, work: impl FnOnce() -> T + Send) -> Result<T, LinuxError> {
        let result = std::thread::scope(|scope| {
            scope
                .spawn(|| {
                    move_into_link_name_space(
                        self.handle.as_fd(),
                        Some(LinkNameSpaceType::Network),
                    )
                    .map_err(|source| LinuxError::system("enter a network namespace", source))?;
                    Ok(work())
                })
                .join()
        });
        result.unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    }

    /// Makes `command` start in the namespace, and end when the calling thread ends.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    #[allow(unsafe_code)]
    pub fn start_here(&self, command: &mut Command) -> Result<(), LinuxError> {
        let handle = self
            .handle
            .try_clone()
            .map_err(|source| LinuxError::system("keep a network namespace open", source))?;
        // SAFETY: between fork and exec the closure only makes system calls; it neither
        // allocates nor takes a lock.
        unsafe {
            command.pre_exec(move || {
                super::die_with_parent()?;
                move_into_link_name_space(handle.as_fd(), Some(LinkNameSpaceType::Network))?;
                Ok(())
            });
        }
        Ok(())
    }
}

#[allow(unsafe_code)]
fn unshare(flags: UnshareFlags) -> rustix::io::Result<()> {
    debug_assert!(!flags.contains(UnshareFlags::FILES), "descriptors stay shared");
    // SAFETY: the call is unsound only when it takes the table of descriptors apart, which none
    // of the flags used here does.
    unsafe { unshare_unsafe(flags) }
}

/// Makes `command` start sealed off: in new network and mount namespaces, and, where this user
/// may not make those, in a user namespace in which it is root. It ends when the calling thread
/// ends.
pub(crate) fn seal(command: &mut Command) {
    seal_into(command, None);
}

/// Like [`seal`], and in a control group of its own, whose `cgroup.procs` is given: that is then
/// the root of all groups that it sees.
#[allow(unsafe_code)]
pub(crate) fn seal_into(command: &mut Command, group: Option<OwnedFd>) {
    let user = format!("0 {} 1", rustix::process::geteuid().as_raw());
    let own_group = format!("0 {} 1", rustix::process::getegid().as_raw());
    // SAFETY: between fork and exec the closure only makes system calls; the texts were made
    // before, and nothing in it allocates or takes a lock.
    unsafe {
        command.pre_exec(move || {
            let mut network = UnshareFlags::NEWNET | UnshareFlags::NEWNS;
            if let Some(group) = &group {
                rustix::io::write(group, b"0")?;
                network |= UnshareFlags::NEWCGROUP;
            }
            match unshare(network) {
                Err(rustix::io::Errno::PERM) => {
                    unshare(network | UnshareFlags::NEWUSER)?;
                    write(c"/proc/self/setgroups", "deny")?;
                    write(c"/proc/self/uid_map", &user)?;
                    write(c"/proc/self/gid_map", &own_group)?;
                }
                other => other?,
            }
            match seal_mounts() {
                // The root of this process was changed to a folder that is no mount point (`chroot(2)`).
                // A lab mounts nothing, so it can do without.
                Err(rustix::io::Errno::INVAL) => {}
                other => other?,
            }
            super::die_with_parent()
        });
    }
}

/// Has what is mounted from now on in the calling thread's mount namespace stay there.
pub(crate) fn seal_mounts() -> rustix::io::Result<()> {
    mount_change(c"/", MountPropagationFlags::PRIVATE | MountPropagationFlags::REC)
}

fn write(path: &std::ffi::CStr, text: &str) -> io::Result<()> {
    let file = open(path, OFlags::WRONLY | OFlags::CLOEXEC, Mode::empty())?;
    rustix::io::write(&file, text.as_bytes())?;
    Ok(())
}
