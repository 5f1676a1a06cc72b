//! Options of sockets that no well-kept crate wraps: marks, and whose network a socket is in.

// Tests come to the marks through the lab.
#![allow(unreachable_pub)]

use rustix::fd::{AsRawFd, BorrowedFd};
use std::io;

/// `SO_NETNS_COOKIE` (asm-generic/socket.h, Linux 5.14).
const NAMESPACE_COOKIE: libc::c_int = 71;

#[allow(unsafe_code)]
fn get<const N: usize>(socket: BorrowedFd<'_>, option: libc::c_int) -> io::Result<[u8; N]> {
    let mut value = [0; N];
    let mut length = libc::socklen_t::try_from(N).unwrap_or(0);
    let value_at = value.as_mut_ptr().cast();
    // SAFETY: the descriptor is open, and the buffer is as long as said.
    let result = unsafe {
        libc::getsockopt(socket.as_raw_fd(), libc::SOL_SOCKET, option, value_at, &raw mut length)
    };
    if result == 0 { Ok(value) } else { Err(io::Error::last_os_error()) }
}

/// The mark of a socket.
///
/// # Errors
/// The system's.
pub fn mark(socket: BorrowedFd<'_>) -> io::Result<u32> {
    get(socket, libc::SO_MARK).map(u32::from_ne_bytes)
}

/// Sets the mark of a socket.
///
/// # Errors
/// The system's, which lets only some do so.
pub fn set_mark(socket: BorrowedFd<'_>, mark: u32) -> io::Result<()> {
    set_mark_at_length(socket, mark, size_of::<u32>())
}

/// Sets the mark of a socket by an option of so many bytes, at least four, of which all behind the mark
/// are zeros: the system takes what it needs.
///
/// # Errors
/// As for [`set_mark`].
#[allow(unsafe_code)]
pub fn set_mark_at_length(socket: BorrowedFd<'_>, mark: u32, length: usize) -> io::Result<()> {
    let mut option = mark.to_ne_bytes().to_vec();
    option.resize(length.max(option.len()), 0);
    let length = libc::socklen_t::try_from(option.len()).map_err(io::Error::other)?;
    let value = option.as_ptr().cast();
    // SAFETY: the descriptor is open, and the buffer is as long as said and outlives the call.
    let result = unsafe {
        libc::setsockopt(socket.as_raw_fd(), libc::SOL_SOCKET, libc::SO_MARK, value, length)
    };
    if result == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}

/// The number of the network namespace that a socket is in, unique since the start.
pub(crate) fn namespace_cookie(socket: BorrowedFd<'_>) -> io::Result<u64> {
    get(socket, NAMESPACE_COOKIE).map(u64::from_ne_bytes)
}

/// `AF_INET`, `AF_INET6`, `AF_UNIX` and so on.
pub(crate) fn family(socket: BorrowedFd<'_>) -> io::Result<i32> {
    get(socket, libc::SO_DOMAIN).map(i32::from_ne_bytes)
}
