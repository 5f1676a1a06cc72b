//! Sockets by way of `io_uring`, which makes system calls without making any.
#![allow(unsafe_code)]

use io_uring::{IoUring, opcode, squeue, types};
use rustix::fd::{AsRawFd, BorrowedFd, FromRawFd, OwnedFd};
use std::io;

/// Does one thing, and gives what the call would have given.
fn done(entry: &squeue::Entry) -> io::Result<i32> {
    let mut ring = IoUring::new(1)?;
    // SAFETY: what the entry points at lives until this returns.
    unsafe { ring.submission().push(entry) }.map_err(io::Error::other)?;
    ring.submit_and_wait(1)?;
    let answer = ring.completion().next().expect("it has been waited for").result();
    if answer < 0 { Err(io::Error::from_raw_os_error(-answer)) } else { Ok(answer) }
}

/// A UDP or TCP socket of IPv4 or IPv6.
pub fn make(udp: bool, v4: bool) -> io::Result<OwnedFd> {
    let domain = if v4 { libc::AF_INET } else { libc::AF_INET6 };
    let kind = if udp { libc::SOCK_DGRAM } else { libc::SOCK_STREAM };
    let made = done(&opcode::Socket::new(domain, kind, 0).build())?;
    // SAFETY: the kernel has just made it for this process.
    Ok(unsafe { OwnedFd::from_raw_fd(made) })
}

/// Sets a socket's mark.
pub fn set_mark(socket: BorrowedFd<'_>, mark: u32) -> io::Result<()> {
    let value = (&raw const mark).cast();
    let (level, option) = (libc::SOL_SOCKET.cast_unsigned(), libc::SO_MARK.cast_unsigned());
    let socket = types::Fd(socket.as_raw_fd());
    done(&opcode::SetSockOpt::new(socket, level, option, value, 4).build()).map(drop)
}
