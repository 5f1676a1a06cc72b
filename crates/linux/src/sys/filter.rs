//! Which packets a packet socket is to hear.

use rustix::fd::{AsRawFd, OwnedFd};
use std::io;

/// `struct sock_filter` (linux/filter.h): what to do, where to go on if so and if not, a number.
const fn step(code: u16, jt: u8, jf: u8, k: u32) -> libc::sock_filter {
    libc::sock_filter { code, jt, jf, k }
}

/// Has a socket that gets packets from the IP header on hear only UDP datagrams to `port`, over both IP
/// versions, without extension headers.
#[allow(unsafe_code)]
pub(crate) fn only_datagrams_to(socket: &OwnedFd, port: u16) -> io::Result<()> {
    const BYTE: u16 = 0x30;
    const HALF: u16 = 0x28;
    const HALF_BEHIND: u16 = 0x48;
    const BEHIND_HEADER: u16 = 0xb1;
    const SHIFT: u16 = 0x74;
    const IS: u16 = 0x15;
    const GO: u16 = 0x05;
    const GIVE: u16 = 0x06;
    let mut steps = [
        step(BYTE, 0, 0, 0),
        step(SHIFT, 0, 0, 4),
        step(IS, 6, 0, 6),
        step(IS, 0, 9, 4),
        // IPv4: the protocol; then the port behind a header of any length.
        step(BYTE, 0, 0, 9),
        step(IS, 0, 7, 17),
        step(BEHIND_HEADER, 0, 0, 0),
        step(HALF_BEHIND, 0, 0, 2),
        step(GO, 0, 0, 3),
        // IPv6 likewise.
        step(BYTE, 0, 0, 6),
        step(IS, 0, 2, 17),
        step(HALF, 0, 0, 42),
        step(IS, 1, 0, port.into()),
        step(GIVE, 0, 0, 0),
        step(GIVE, 0, 0, u32::MAX),
    ];
    let length = u16::try_from(steps.len()).map_err(io::Error::other)?;
    let program = libc::sock_fprog { len: length, filter: steps.as_mut_ptr() };
    let size = libc::socklen_t::try_from(size_of_val(&program)).map_err(io::Error::other)?;
    // SAFETY: the kernel reads the structure and as many steps as it says, all alive, and keeps a copy.
    let outcome = unsafe {
        libc::setsockopt(
            socket.as_raw_fd(),
            libc::SOL_SOCKET,
            libc::SO_ATTACH_FILTER,
            (&raw const program).cast(),
            size,
        )
    };
    if outcome == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
}
