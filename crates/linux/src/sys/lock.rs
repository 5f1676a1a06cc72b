//! Locks that only who may write a file can hold.

use rustix::fd::{AsRawFd, BorrowedFd};
use std::io;

/// Locks the whole of a file that is open for writing, if nobody else has; it is let go when the file is
/// closed. Unlike a lock that whoever may read can have, nobody else can keep writers out by it.
///
/// # Errors
/// The system's; [`io::ErrorKind::WouldBlock`] if somebody else has it.
///
/// # References
/// `fcntl(2)`, open file description locks.
#[allow(unsafe_code)]
pub fn lock_for_writing(file: BorrowedFd<'_>) -> io::Result<()> {
    // All zeros is a lock of the whole file.
    // SAFETY: every field of the structure is a number.
    let mut lock: libc::flock = unsafe { std::mem::zeroed() };
    lock.l_type = libc::c_short::try_from(libc::F_WRLCK).unwrap_or(1);
    lock.l_whence = libc::c_short::try_from(libc::SEEK_SET).unwrap_or(0);
    // SAFETY: the descriptor is open, and the structure outlives the call.
    let done = unsafe { libc::fcntl(file.as_raw_fd(), libc::F_OFD_SETLK, &raw const lock) };
    if done == -1 { Err(io::Error::last_os_error()) } else { Ok(()) }
}
