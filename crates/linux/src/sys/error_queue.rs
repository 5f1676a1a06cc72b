//! What a socket was told by ICMP: `IP_RECVERR` and the error queue (ip(7), ipv6(7)).

use super::switch_on;
use rustix::fd::{AsRawFd, OwnedFd};
use std::io;
use std::mem::MaybeUninit;

/// Who reported an error, and the ICMP or ICMPv6 type and code if it was a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Reported {
    /// Whether it came as ICMP (`Some(false)`) or ICMPv6 (`Some(true)`), or from this host
    /// itself (`None`).
    pub v6: Option<bool>,
    /// The type of the ICMP error.
    pub kind: u8,
    /// The code of the ICMP error.
    pub code: u8,
}

/// Asks for errors to be queued.
pub(crate) fn enable(socket: &OwnedFd, v6: bool) -> io::Result<()> {
    if v6 {
        switch_on(socket, libc::IPPROTO_IPV6, libc::IPV6_RECVERR)
    } else {
        switch_on(socket, libc::IPPROTO_IP, libc::IP_RECVERR)
    }
}

/// Takes one error from the queue; `None` if it is empty.
#[allow(unsafe_code)]
pub(crate) fn take(socket: &OwnedFd) -> Option<Reported> {
    let mut control = [0u64; 64];
    let mut data = [0u8; 256];
    let mut part = libc::iovec { iov_base: data.as_mut_ptr().cast(), iov_len: data.len() };
    // SAFETY: all-zero is a valid `msghdr`: null pointers and zero lengths.
    let mut header: libc::msghdr = unsafe { MaybeUninit::zeroed().assume_init() };
    header.msg_iov = &raw mut part;
    header.msg_iovlen = 1;
    header.msg_control = control.as_mut_ptr().cast();
    // Its type is the C library's affair: 64 bits with one, 32 with another.
    header.msg_controllen = size_of_val(&control) as _;
    // SAFETY: every pointer in the header is to a live buffer of the stated size.
    let received = unsafe {
        libc::recvmsg(socket.as_raw_fd(), &raw mut header, libc::MSG_ERRQUEUE | libc::MSG_DONTWAIT)
    };
    if received < 0 {
        return None;
    }
    // SAFETY: the kernel filled in the header; the control buffer is alive and aligned for
    // `cmsghdr`.
    let mut message = unsafe { libc::CMSG_FIRSTHDR(&raw const header) };
    while !message.is_null() {
        // SAFETY: not null, and the kernel wrote a whole `cmsghdr` there.
        let found = unsafe { message.read() };
        let (level, kind) = (found.cmsg_level, found.cmsg_type);
        let is_error = (level, kind) == (libc::IPPROTO_IP, libc::IP_RECVERR)
            || (level, kind) == (libc::IPPROTO_IPV6, libc::IPV6_RECVERR);
        if is_error {
            // SAFETY: as above; the data of such a message begin with `sock_extended_err`.
            let data = unsafe { libc::CMSG_DATA(message) };
            // SAFETY: the kernel wrote a whole structure there; it may be unaligned.
            let error = unsafe { data.cast::<libc::sock_extended_err>().read_unaligned() };
            let v6 = match error.ee_origin {
                libc::SO_EE_ORIGIN_ICMP => Some(false),
                libc::SO_EE_ORIGIN_ICMP6 => Some(true),
                _ => None,
            };
            return Some(Reported { v6, kind: error.ee_type, code: error.ee_code });
        }
        // SAFETY: `message` lies in the control buffer that `header` describes.
        message = unsafe { libc::CMSG_NXTHDR(&raw const header, message) };
    }
    None
}
