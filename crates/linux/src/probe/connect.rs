//! Checks made the way a client makes them: with an ordinary socket.

use crate::LinuxError;
use crate::sockets::{PortProtocol, kind};
use crate::sys::error_queue::{self, Reported};
use rustix::event::{PollFd, PollFlags, poll};
use rustix::fd::OwnedFd;
use rustix::io::Errno;
use rustix::net::{
    AddressFamily, SendFlags, SocketFlags, bind, connect, recv, send, socket_with, sockopt,
};
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

/// What a check meets.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum State {
    /// Somebody answers as a service does.
    Open,
    /// The host answers that nobody is there, or that the connection is refused: a TCP reset, or
    /// ICMP "port unreachable".
    Refused,
    /// The host, or a router, answers that it is administratively prohibited.
    Prohibited,
    /// No answer within the time.
    Silent,
    /// Another ICMP error: the way there is broken.
    Unreachable,
}

impl State {
    /// The word for it in output.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Refused => "refused",
            Self::Prohibited => "prohibited",
            Self::Silent => "silent",
            Self::Unreachable => "unreachable",
        }
    }

    /// Reads the word that [`State::as_str`] gives.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let all = [Self::Open, Self::Refused, Self::Prohibited, Self::Silent, Self::Unreachable];
        all.into_iter().find(|state| state.as_str() == text)
    }
}

/// A check, as a client would make it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Attempt {
    /// The protocol by which to knock.
    pub protocol: PortProtocol,
    /// From which address; `None` leaves the choice to the system. It must be this host's, see
    /// [`crate::is_own`]: the system is told not to check, since it would refuse addresses of
    /// networks for which the host speaks as a whole.
    pub source: Option<IpAddr>,
    /// The address and port to knock at.
    pub destination: SocketAddr,
    /// How long to wait for an answer.
    pub patience: Duration,
}

/// What a check met, and how that was seen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Observation {
    /// What the check met there.
    pub state: State,
    /// How that was seen, in words.
    pub evidence: String,
}

/// What a datagram says. A service that does not understand it may stay silent.
const GREETING: &[u8] = b"tipstaff: is anybody there?\n";

/// Makes one check from the calling thread's network namespace.
///
/// # Errors
/// [`LinuxError`] if the check could not be made, for example because the source address is not
/// this host's or there is no route. That says nothing about the port.
pub fn attempt(attempt: &Attempt) -> Result<Observation, LinuxError> {
    let doing = || format!("probe {} over {}", attempt.destination, attempt.protocol.as_str());
    try_it(attempt).map_err(|errno| LinuxError::system(doing(), errno))
}

fn try_it(attempt: &Attempt) -> Result<Observation, Errno> {
    let v6 = attempt.destination.is_ipv6();
    let family = if v6 { AddressFamily::INET6 } else { AddressFamily::INET };
    let (kind, protocol) = kind(attempt.protocol);
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    let socket = socket_with(family, kind, flags, Some(protocol))?;
    error_queue::enable(&socket, v6)
        .map_err(|error| Errno::from_io_error(&error).unwrap_or(Errno::IO))?;
    if let Some(source) = attempt.source {
        if v6 {
            sockopt::set_ipv6_freebind(&socket, true)?;
        } else {
            sockopt::set_ip_freebind(&socket, true)?;
        }
        bind(&socket, &SocketAddr::new(source, 0))?;
    }
    let deadline = Instant::now() + attempt.patience;
    match attempt.protocol {
        PortProtocol::Tcp => {
            let words = ["no answer to the SYN", "TCP handshake completed", "TCP reset"];
            by_handshake(&socket, attempt, deadline, words)
        }
        PortProtocol::Udp => over_udp(&socket, attempt, deadline),
        PortProtocol::Sctp => {
            let words = ["no answer to the INIT", "SCTP association established", "SCTP abort"];
            by_handshake(&socket, attempt, deadline, words)
        }
    }
}

/// By connecting; the words are for nothing, an answer, and a refusal.
fn by_handshake(
    socket: &OwnedFd,
    attempt: &Attempt,
    deadline: Instant,
    [nothing, answer, refusal]: [&str; 3],
) -> Result<Observation, Errno> {
    let outcome = match connect(socket, &attempt.destination) {
        Err(Errno::INPROGRESS) => {
            if !wait(socket, PollFlags::OUT, deadline)? {
                return Ok(silence(nothing, attempt));
            }
            sockopt::socket_error(socket)?
        }
        outcome => outcome,
    };
    match outcome {
        Ok(()) => Ok(seen(State::Open, answer)),
        Err(Errno::CONNREFUSED) => Ok(seen(State::Refused, refusal)),
        Err(errno) => from_queue(socket, errno),
    }
}

fn over_udp(socket: &OwnedFd, attempt: &Attempt, deadline: Instant) -> Result<Observation, Errno> {
    connect(socket, &attempt.destination)?;
    match send(socket, GREETING, SendFlags::empty()) {
        Ok(_) => {}
        // Our own rules may refuse to let it out.
        Err(errno) => return from_queue(socket, errno),
    }
    if !wait(socket, PollFlags::IN, deadline)? {
        return Ok(silence("no answer to a datagram", attempt));
    }
    let mut answer = [0; 2048];
    match recv(socket, &mut answer, rustix::net::RecvFlags::empty()) {
        Ok((_, length)) => Ok(seen(State::Open, &format!("{length} bytes came back"))),
        Err(errno) => from_queue(socket, errno),
    }
}

pub(super) fn seen(state: State, evidence: &str) -> Observation {
    Observation { state, evidence: evidence.into() }
}

fn silence(what: &str, attempt: &Attempt) -> Observation {
    seen(State::Silent, &format!("{what} within {} ms", attempt.patience.as_millis()))
}

/// Waits for an event or an error on the socket; `false` if the time is over. It looks once in any case:
/// on a busy machine the time may be over before this process runs again, and the answer there.
pub(super) fn wait(socket: &OwnedFd, event: PollFlags, deadline: Instant) -> Result<bool, Errno> {
    loop {
        let left = deadline.saturating_duration_since(Instant::now());
        let time = rustix::event::Timespec::try_from(left).map_err(|_| Errno::INVAL)?;
        match poll(&mut [PollFd::new(socket, event)], Some(&time)) {
            Ok(0) => return Ok(false),
            Ok(_) => return Ok(true),
            Err(Errno::INTR) => {}
            Err(errno) => return Err(errno),
        }
    }
}

/// Explains an error by what the socket was told. An error of this host's own making is passed
/// on: it says nothing about the far end.
fn from_queue(socket: &OwnedFd, errno: Errno) -> Result<Observation, Errno> {
    match error_queue::take(socket) {
        Some(Reported { v6: Some(v6), kind, code }) => Ok(from_icmp(v6, kind, code)),
        _ => match errno {
            Errno::CONNREFUSED => Ok(seen(State::Refused, "port unreachable")),
            // TCP keeps no queue; these are what it makes of a prohibition.
            Errno::HOSTUNREACH => {
                Ok(seen(State::Prohibited, "ICMP: host unreachable or prohibited"))
            }
            Errno::ACCESS => Ok(seen(State::Prohibited, "ICMPv6: prohibited")),
            errno => Err(errno),
        },
    }
}

/// RFC 792, RFC 1812 section 5.2.7.1, RFC 4443 section 3.1.
fn from_icmp(v6: bool, kind: u8, code: u8) -> Observation {
    let state = match (v6, kind, code) {
        (false, 3, 3) | (true, 1, 4) => State::Refused,
        (false, 3, 9 | 10 | 13) | (true, 1, 1 | 5) => State::Prohibited,
        _ => State::Unreachable,
    };
    let version = if v6 { "ICMPv6" } else { "ICMP" };
    seen(state, &format!("{version} type {kind} code {code}"))
}
