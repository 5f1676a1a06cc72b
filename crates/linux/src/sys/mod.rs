//! The only place with unsafe code: system calls that no well-kept crate wraps.

pub(crate) mod bpf;
pub(crate) mod error_queue;
mod filter;
pub(crate) mod lock;
pub(crate) mod mark;
pub(crate) mod namespace;
pub(crate) mod netlink;
pub(crate) mod packet;

use rustix::fd::{AsRawFd, OwnedFd};
use std::io;

/// Asks the kernel to end this process when its parent ends, however that happens.
///
/// # Errors
/// The system's, which is not known to happen.
pub fn die_with_parent() -> io::Result<()> {
    use rustix::process::{Signal, set_parent_process_death_signal};
    Ok(set_parent_process_death_signal(Some(Signal::KILL))?)
}

/// Switches on a socket option that is a truth value.
#[allow(unsafe_code)]
fn switch_on(socket: &OwnedFd, level: libc::c_int, option: libc::c_int) -> io::Result<()> {
    let on: libc::c_int = 1;
    let size = libc::socklen_t::try_from(size_of_val(&on)).unwrap_or(4);
    // SAFETY: the descriptor is open, and the pointer is to an integer of the given size that
    // outlives the call.
    let result = unsafe {
        libc::setsockopt(socket.as_raw_fd(), level, option, (&raw const on).cast(), size)
    };
    if result == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}
