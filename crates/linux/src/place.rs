//! In which network namespace this process is, by a name that is the same the next time.

use crate::sys::mark::namespace_cookie;
use rustix::fd::AsFd;
use rustix::net::{AddressFamily, SocketFlags, SocketType, socket_with};
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// Where namespaces are given names, as is usual.
const NAMES: &str = "/run/netns";
const OF_THIS_THREAD: &str = "/proc/thread-self/ns/net";

/// The number that the kernel never gives to another namespace.
fn cookie() -> Option<u64> {
    let socket = socket_with(AddressFamily::INET, SocketType::DGRAM, SocketFlags::CLOEXEC, None);
    namespace_cookie(socket.ok()?.as_fd()).ok()
}

/// A network namespace, as what is kept on disk is kept apart by.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// The machine's, or the container's: the one that its first process is in.
    Main,
    /// One that has a name; it has it again after a reboot.
    Named(String),
    /// One without a name, by a number that no other has until the next reboot (on kernels before 5.14:
    /// by one that another may have when this one is gone).
    Unnamed(u64),
}

impl Place {
    /// The place of the calling thread.
    #[must_use]
    pub fn current() -> Self {
        // The numbers of these two files differ where the namespaces do, and anybody may look at
        // them, while /proc/1/ns/net is not for everybody.
        let list = |of: &str| fs::metadata(format!("/proc/{of}/net/dev")).map(|it| it.ino());
        if let (Ok(own), Ok(first)) = (list("thread-self"), list("1"))
            && own == first
        {
            return Self::Main;
        }
        let own = fs::metadata(OF_THIS_THREAD).map(|it| (it.dev(), it.ino()));
        let Ok(own) = own else { return Self::Unnamed(0) };
        match Self::name(own) {
            Some(name) => Self::Named(name),
            None => Self::Unnamed(cookie().unwrap_or(own.1)),
        }
    }

    /// The first name, in their order, of a namespace.
    fn name(own: (u64, u64)) -> Option<String> {
        let mut names: Vec<String> = fs::read_dir(Path::new(NAMES))
            .ok()?
            .flatten()
            .filter(|file| fs::metadata(file.path()).is_ok_and(|it| (it.dev(), it.ino()) == own))
            .filter_map(|file| file.file_name().into_string().ok())
            .collect();
        names.sort_unstable();
        names.into_iter().next()
    }

    /// The words for it.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::Main => "this machine".into(),
            Self::Named(name) => format!("network namespace {name}"),
            Self::Unnamed(number) => format!("network namespace {number}, which has no name"),
        }
    }
}
