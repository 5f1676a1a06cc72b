//! Netlink sockets.

use super::switch_on;
use rustix::fd::OwnedFd;
use rustix::net::netlink::{NETFILTER, SOCK_DIAG, SocketAddrNetlink};
use rustix::net::{
    AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, bind, recv, sendto, socket_with,
    sockopt,
};
use std::io;
use std::time::Duration;

/// Kernel datagrams have at most 32 KiB, except for reports, whose size the receiver chooses.
const DATAGRAM: usize = 256 * 1024;
const USUAL_SEND_BUFFER: usize = 200 * 1024;
/// The kernel charges more than the bytes of a message against the send buffer.
const OVERHEAD: usize = 2;

/// The netlink families used here.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Protocol {
    /// Links, addresses, routes and rules for them.
    Route,
    /// Sockets of all processes.
    SocketDiagnosis,
    /// The packet filter and its relatives.
    Netfilter,
}

/// Opens a socket that is told what groups of that family are told: one bit for each, the first group's lowest.
pub(crate) fn open(protocol: Protocol, groups: u32) -> io::Result<OwnedFd> {
    let family = match protocol {
        // NETLINK_ROUTE is protocol 0, the family's default.
        Protocol::Route => None,
        Protocol::SocketDiagnosis => Some(SOCK_DIAG),
        Protocol::Netfilter => Some(NETFILTER),
    };
    let socket =
        socket_with(AddressFamily::NETLINK, SocketType::RAW, SocketFlags::CLOEXEC, family)?;
    bind(&socket, &SocketAddrNetlink::new(0, groups))?;
    // Both only make the kernel's answers better; an old kernel that lacks them still answers.
    let _ = switch_on(&socket, libc::SOL_NETLINK, libc::NETLINK_EXT_ACK);
    let _ = switch_on(&socket, libc::SOL_NETLINK, libc::NETLINK_CAP_ACK);
    receive_timeout(&socket, Duration::from_secs(10))?;
    Ok(socket)
}

pub(crate) fn receive_timeout(socket: &OwnedFd, time: Duration) -> io::Result<()> {
    Ok(sockopt::set_socket_timeout(socket, sockopt::Timeout::Recv, Some(time))?)
}

pub(crate) fn receive_buffer(socket: &OwnedFd, bytes: usize) -> io::Result<()> {
    // Beyond the system's limit only with the right; what it grants otherwise is good enough.
    if sockopt::set_socket_recv_buffer_size_force(socket, bytes).is_err() {
        sockopt::set_socket_recv_buffer_size(socket, bytes)?;
    }
    Ok(())
}

pub(crate) fn send(socket: &OwnedFd, bytes: &[u8]) -> io::Result<()> {
    if bytes.len() > USUAL_SEND_BUFFER {
        let room = bytes.len() * OVERHEAD;
        if sockopt::set_socket_send_buffer_size_force(socket, room).is_err() {
            sockopt::set_socket_send_buffer_size(socket, room)?;
        }
    }
    let kernel = SocketAddrNetlink::new(0, 0);
    let sent = rustix::io::retry_on_intr(|| sendto(socket, bytes, SendFlags::empty(), &kernel))?;
    if sent == bytes.len() { Ok(()) } else { Err(io::ErrorKind::WriteZero.into()) }
}

/// Receives one datagram, and only one that has come already if `now`; `buffer` is room that is used
/// again each time.
pub(crate) fn receive<'a>(
    socket: &OwnedFd,
    buffer: &'a mut Vec<u8>,
    now: bool,
) -> io::Result<&'a mut [u8]> {
    buffer.resize(DATAGRAM, 0);
    let flags = if now { RecvFlags::TRUNC | RecvFlags::DONTWAIT } else { RecvFlags::TRUNC };
    let (_, length) = rustix::io::retry_on_intr(|| recv(socket, &mut buffer[..], flags))?;
    buffer.get_mut(..length).ok_or_else(|| io::Error::other("a netlink datagram was cut"))
}
