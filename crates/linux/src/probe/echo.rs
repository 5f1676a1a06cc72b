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
use std::sync::atomic::{AtomicU16, Ordering};
use std::time::{Duration, Instant};

const ECHO_REQUEST: u8 = 8;
const ECHO_REPLY: u8 = 0;
const ECHO_REQUEST_V6: u8 = 128;
const ECHO_REPLY_V6: u8 = 129;
const UNREACHABLE: u8 = 3;
const UNREACHABLE_V6: u8 = 1;
/// Type, code, checksum, the sender's number, the number of the request; and a few bytes behind.
const LENGTH: usize = 16;

/// Tells the pings of this program apart.
static NEXT: AtomicU16 = AtomicU16::new(1);

/// Sends one echo request from the calling thread's network namespace, and waits for the answer.
/// `source` must be this host's, see [`crate::is_own`].
///
/// # Errors
/// [`LinuxError`] if it could not be sent: the system lets some users send none (icmp(7)).
///
/// # References
/// RFC 792, RFC 4443 section 4.
pub fn echo(
    source: Option<IpAddr>,
    destination: IpAddr,
    patience: Duration,
) -> Result<Observation, LinuxError> {
    try_it(source, destination, patience)
        .map_err(|errno| LinuxError::system(format!("ping {destination}"), errno))
}

/// A socket for pings: one that ordinary users may have where the system lets them
/// (`net.ipv4.ping_group_range`), else one that sees all ICMP; `true` for the latter.
fn open(v6: bool) -> Result<(OwnedFd, bool), Errno> {
    let (family, protocol) = if v6 {
        (AddressFamily::INET6, ipproto::ICMPV6)
    } else {
        (AddressFamily::INET, ipproto::ICMP)
    };
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    match socket_with(family, SocketType::DGRAM, flags, Some(protocol)) {
        Ok(socket) => Ok((socket, false)),
        Err(refused) => match socket_with(family, SocketType::RAW, flags, Some(protocol)) {
            Ok(socket) => Ok((socket, true)),
            Err(_) => Err(refused),
        },
    }
}

fn try_it(
    source: Option<IpAddr>,
    destination: IpAddr,
    patience: Duration,
) -> Result<Observation, Errno> {
    let v6 = destination.is_ipv6();
    let (socket, sees_all) = open(v6)?;
    if let Some(source) = source {
        if v6 {
            sockopt::set_ipv6_freebind(&socket, true)?;
        } else {
            sockopt::set_ip_freebind(&socket, true)?;
        }
        bind(&socket, &SocketAddr::new(source, 0))?;
    }
    connect(&socket, &SocketAddr::new(destination, 0))?;
    let pid = rustix::process::getpid().as_raw_pid().to_ne_bytes();
    let number = [pid[0], pid[1]];
    let request = request(v6, number, NEXT.fetch_add(1, Ordering::Relaxed));
    let deadline = Instant::now() + patience;
    send(&socket, &request, SendFlags::empty())?;
    while wait(&socket, PollFlags::IN, deadline)? {
        let mut packet = [0u8; 1_500];
        let heard = match recv(&socket, &mut packet, RecvFlags::empty()) {
            Ok((_, length)) => packet.get(..length).unwrap_or_default(),
            Err(Errno::CONNREFUSED) => return Ok(seen(State::Refused, "ICMP: port unreachable")),
            Err(Errno::HOSTUNREACH | Errno::ACCESS) => return Ok(prohibited()),
            Err(errno) => return Err(errno),
        };
        if !sees_all {
            return Ok(seen(State::Open, "echo reply"));
        }
        if let Some(observation) = answer(heard, v6, &request) {
            return Ok(observation);
        }
    }
    let evidence = format!("no answer to an echo request within {} ms", patience.as_millis());
    Ok(seen(State::Silent, &evidence))
}

fn prohibited() -> Observation {
    seen(State::Prohibited, "ICMP: host unreachable or prohibited")
}

fn request(v6: bool, number: [u8; 2], turn: u16) -> [u8; LENGTH] {
    let mut request = [0; LENGTH];
    request[0] = if v6 { ECHO_REQUEST_V6 } else { ECHO_REQUEST };
    request[4..6].copy_from_slice(&number);
    request[6..8].copy_from_slice(&turn.to_be_bytes());
    if !v6 {
        // For ICMPv6 the kernel does it, since it depends on the addresses (RFC 3542 section 3.1).
        let sum: u32 =
            request.chunks(2).map(|it| u32::from(u16::from_be_bytes([it[0], it[1]]))).sum();
        let folded = (sum & 0xffff) + (sum >> 16);
        let folded = u16::try_from(folded & 0xffff).unwrap_or(0) + u16::from(folded > 0xffff);
        request[2..4].copy_from_slice(&(!folded).to_be_bytes());
    }
    request
}

/// What a packet says about our request; `None` if it is about something else.
fn answer(packet: &[u8], v6: bool, request: &[u8; LENGTH]) -> Option<Observation> {
    // IPv4 packets come with their header.
    let behind = |packet: &[u8]| usize::from(packet.first().map_or(0, |it| it & 0xf)) * 4;
    let message = if v6 { packet } else { packet.get(behind(packet)..)? };
    let (reply, unreachable) =
        if v6 { (ECHO_REPLY_V6, UNREACHABLE_V6) } else { (ECHO_REPLY, UNREACHABLE) };
    let kind = *message.first()?;
    if kind == reply && message.get(4..8)? == &request[4..8] {
        return Some(seen(State::Open, "echo reply"));
    }
    if kind == unreachable {
        let inner = message.get(8..)?;
        let inner = inner.get(if v6 { 40 } else { behind(inner) }..)?;
        return (inner.get(4..8)? == &request[4..8]).then(prohibited);
    }
    None
}

#[cfg(test)]
mod tests {
    use super::{answer, request};
    use crate::probe::State;

    #[test]
    fn answers_to_others_are_passed_over() {
        let (ours, another) = (request(false, [1, 2], 3), request(false, [1, 2], 4));
        let mut reply = vec![0x45];
        reply.resize(20, 0);
        reply.extend(ours);
        reply[20] = 0;
        let state =
            |packet: &[u8], request: &[u8; 16]| answer(packet, false, request).map(|it| it.state);
        assert_eq!(state(&reply, &ours), Some(State::Open));
        assert_eq!(state(&reply, &another), None);
        for cut in 0..reply.len() - 8 {
            assert_eq!(state(&reply[..cut], &ours), None, "{cut}");
        }
        let mut refusal = vec![0x45];
        refusal.resize(20, 0);
        refusal.extend([3, 13, 0, 0, 0, 0, 0, 0]);
        refusal.push(0x45);
        refusal.resize(48, 0);
        refusal.extend(ours);
        assert_eq!(state(&refusal, &ours), Some(State::Prohibited));
    }
}
