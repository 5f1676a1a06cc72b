//! Pings, the way an ordinary user sends them.

use super::connect::{Observation, State, seen, wait};
use crate::LinuxError;
use rustix::event::PollFlags;
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use rustix::net::{
    AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, bind, connect, ipproto, recv,
    send, socket_with, sockopt,
};
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

const ECHO_REQUEST: u8 = 8;
const ECHO_REQUEST_V6: u8 = 128;
/// Where the kernel puts the number of a socket of this kind.
const HEADER: usize = 8;

/// Sends one echo request from the calling thread's network namespace, and waits for the answer.
/// `source` must be this host's, see [`crate::is_own`].
///
/// # Errors
/// [`LinuxError`] if it could not be sent: often because the system lets this user send none
/// (`net.ipv4.ping_group_range`, icmp(7)).
pub fn echo(
    source: Option<IpAddr>,
    destination: IpAddr,
    patience: Duration,
) -> Result<Observation, LinuxError> {
    try_it(source, destination, patience)
        .map_err(|errno| LinuxError::system(format!("ping {destination}"), errno))
}

fn open(v6: bool) -> Result<OwnedFd, Errno> {
    let (family, protocol) = if v6 {
        (AddressFamily::INET6, ipproto::ICMPV6)
    } else {
        (AddressFamily::INET, ipproto::ICMP)
    };
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    socket_with(family, SocketType::DGRAM, flags, Some(protocol))
}

fn try_it(
    source: Option<IpAddr>,
    destination: IpAddr,
    patience: Duration,
) -> Result<Observation, Errno> {
    let v6 = destination.is_ipv6();
    let socket = open(v6)?;
    if let Some(source) = source {
        if v6 {
            sockopt::set_ipv6_freebind(&socket, true)?;
        } else {
            sockopt::set_ip_freebind(&socket, true)?;
        }
        bind(&socket, &SocketAddr::new(source, 0))?;
    }
    connect(&socket, &SocketAddr::new(destination, 0))?;
    let mut request = [0u8; HEADER + 8];
    request[0] = if v6 { ECHO_REQUEST_V6 } else { ECHO_REQUEST };
    let deadline = Instant::now() + patience;
    send(&socket, &request, SendFlags::empty())?;
    if !wait(&socket, PollFlags::IN, deadline)? {
        let evidence = format!("no answer to an echo request within {} ms", patience.as_millis());
        return Ok(seen(State::Silent, &evidence));
    }
    let mut answer = [0u8; 512];
    match recv(&socket, &mut answer, RecvFlags::empty()) {
        Ok(_) => Ok(seen(State::Open, "echo reply")),
        Err(Errno::CONNREFUSED) => Ok(seen(State::Refused, "ICMP: port unreachable")),
        Err(Errno::HOSTUNREACH | Errno::ACCESS) => {
            Ok(seen(State::Prohibited, "ICMP: host unreachable or prohibited"))
        }
        Err(errno) => Err(errno),
    }
}
