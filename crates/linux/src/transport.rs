//! Netlink conversations over anything that can carry datagrams.

use crate::LinuxError;
use crate::sys::netlink;
pub use crate::sys::netlink::Protocol;
use rustix::fd::{AsFd, BorrowedFd, OwnedFd};
use std::io;
use std::sync::mpsc::channel;
use std::sync::{Mutex, OnceLock};
use std::thread;
use std::time::Duration;
use tipstaff_wire::WireError;
use tipstaff_wire::netlink::{Answer, DONE, DUMP_INTERRUPTED, ERROR, split};

/// A dump that keeps being interrupted by changes is begun anew this many times.
pub(crate) const DUMP_TRIES: usize = 8;

/// Carries datagrams of netlink messages to the kernel and back. Besides the real socket, tests
/// use ones that replay, or that fail on purpose.
pub trait Transport {
    /// Sends one datagram.
    ///
    /// # Errors
    /// The system's.
    fn send(&mut self, bytes: &[u8]) -> io::Result<()>;

    /// Receives one datagram; [`io::ErrorKind::WouldBlock`] if none comes in time.
    ///
    /// # Errors
    /// The system's.
    fn receive(&mut self) -> io::Result<Vec<u8>>;

    /// A number for the next request.
    fn next_sequence(&mut self) -> u32;
}

/// A real netlink socket of the calling thread's network namespace.
#[derive(Debug)]
pub struct NetlinkSocket {
    socket: OwnedFd,
    sequence: u32,
    /// Room in which datagrams arrive.
    buffer: Vec<u8>,
}

impl NetlinkSocket {
    /// Opens one.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn open(protocol: Protocol) -> Result<Self, LinuxError> {
        Self::of_groups(protocol, 0)
    }

    /// Opens one that is told what groups of the family are told, by a bit for each.
    ///
    /// # Errors
    /// As for [`Self::open`].
    pub(crate) fn of_groups(protocol: Protocol, groups: u32) -> Result<Self, LinuxError> {
        let socket = netlink::open(protocol, groups)
            .map_err(|source| LinuxError::system("open a netlink socket", source))?;
        Ok(Self { socket, sequence: 1, buffer: Vec::new() })
    }

    /// Sets how much the kernel may queue for this socket, in bytes; it may grant less.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn queue(&self, bytes: usize) -> Result<(), LinuxError> {
        netlink::receive_buffer(&self.socket, bytes)
            .map_err(|source| LinuxError::system("enlarge a netlink queue", source))
    }

    /// Sets how long [`Transport::receive`] waits.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn patience(&self, time: Duration) -> Result<(), LinuxError> {
        netlink::receive_timeout(&self.socket, time)
            .map_err(|source| LinuxError::system("set a netlink timeout", source))
    }

    /// What can be waited for.
    pub(crate) fn as_fd(&self) -> BorrowedFd<'_> {
        self.socket.as_fd()
    }

    /// The next datagram without a copy of it, if one has come already; `None` if not.
    ///
    /// # Errors
    /// The system's.
    pub(crate) fn receive_now(&mut self) -> io::Result<Option<&[u8]>> {
        match netlink::receive(&self.socket, &mut self.buffer, true) {
            Ok(datagram) => Ok(Some(datagram)),
            Err(error) if error.kind() == io::ErrorKind::WouldBlock => Ok(None),
            Err(error) => Err(error),
        }
    }
}

impl Transport for NetlinkSocket {
    fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
        netlink::send(&self.socket, bytes)
    }

    fn receive(&mut self) -> io::Result<Vec<u8>> {
        netlink::receive(&self.socket, &mut self.buffer, false).map(|it| it.to_vec())
    }

    fn next_sequence(&mut self) -> u32 {
        self.sequence += 1;
        self.sequence
    }
}

/// Sends a request made for the given number and waits until the kernel acknowledges it.
pub(crate) fn ask(
    transport: &mut dyn Transport,
    doing: &str,
    request: impl FnOnce(u32) -> Result<Vec<u8>, WireError>,
) -> Result<(), LinuxError> {
    ask_about(transport, doing, &[], request).map(|_| ())
}

/// Like [`ask`]; the errors named in `fine` are answers: gives `false` for those.
pub(crate) fn ask_about(
    transport: &mut dyn Transport,
    doing: &str,
    fine: &[i32],
    request: impl FnOnce(u32) -> Result<Vec<u8>, WireError>,
) -> Result<bool, LinuxError> {
    let sequence = transport.next_sequence();
    let bytes = request(sequence)?;
    let system = |source| LinuxError::system(doing, source);
    transport.send(&bytes).map_err(system)?;
    loop {
        let datagram = transport.receive().map_err(system)?;
        for message in split(&datagram)? {
            if message.sequence == sequence && message.kind == ERROR {
                let answer = message.answer()?;
                return match answer.errno {
                    0 => Ok(true),
                    errno if fine.contains(&errno) => Ok(false),
                    errno => Err(LinuxError::refused(doing, errno, answer.remark.as_deref())),
                };
            }
        }
    }
}

/// Sends a dump request and decodes the body of every message of the answer. A dump during which
/// the objects changed is begun anew.
pub(crate) fn dump<T>(
    transport: &mut dyn Transport,
    doing: &str,
    request: impl Fn(u32) -> Result<Vec<u8>, WireError>,
    decode: impl Fn(&[u8]) -> Result<T, WireError>,
) -> Result<Vec<T>, LinuxError> {
    dump_raw(transport, doing, request)?.decode(decode)
}

/// Sends a dump request and gives the answer as it came, so that it can be decoded elsewhere.
pub(crate) fn dump_raw(
    transport: &mut dyn Transport,
    doing: &str,
    request: impl Fn(u32) -> Result<Vec<u8>, WireError>,
) -> Result<RawDump, LinuxError> {
    for _ in 0..DUMP_TRIES {
        let sequence = ask_for_dump(transport, doing, &request)?;
        let mut datagrams = Vec::new();
        if receive_dump(transport, doing, sequence, |datagram| datagrams.push(datagram))? {
            return Ok(RawDump { sequence, datagrams });
        }
    }
    Err(keeps_changing(doing))
}

/// Like [`dump`], of several requests one after the other; but another core decodes what has come while the kernel
/// writes down the rest, and the remainder is shared. `prepare` runs on that core first, and decoding may use what it
/// gives.
pub(crate) fn dump_and_decode<P: Send + Sync, T: Send>(
    transport: &mut dyn Transport,
    doing: &str,
    requests: &[impl Fn(u32) -> Result<Vec<u8>, WireError>],
    prepare: impl Fn() -> Result<P, LinuxError> + Sync,
    decode: impl Fn(&P, &[u8]) -> Result<T, WireError> + Sync,
) -> Result<Vec<T>, LinuxError> {
    for _ in 0..DUMP_TRIES {
        let prepared: OnceLock<P> = OnceLock::new();
        let (sender, queue) = channel::<(usize, u32, Vec<u8>)>();
        let queue = Mutex::new(queue);
        let next = || queue.lock().ok().and_then(|queue| queue.recv().ok());
        let work = |prepared: &P| -> Result<Vec<(usize, Vec<T>)>, LinuxError> {
            let mut parts = Vec::new();
            while let Some((number, sequence, datagram)) = next() {
                parts.push((number, decode_all(&datagram, sequence, &|it| decode(prepared, it))?));
            }
            Ok(parts)
        };
        let (whole, mine, others) = thread::scope(|scope| {
            let other = scope.spawn(|| {
                let made = prepare()?;
                work(prepared.get_or_init(|| made))
            });
            let mut number = 0;
            let whole = requests.iter().try_fold(true, |whole, request| {
                // What is begun anew need not be read to its end.
                if !whole {
                    return Ok(false);
                }
                let sequence = ask_for_dump(transport, doing, request)?;
                receive_dump(transport, doing, sequence, |datagram| {
                    number += 1;
                    // The queue is there as long as this function runs.
                    let _ = sender.send((number, sequence, datagram));
                })
            });
            drop(sender);
            let mine = prepared.get().map_or(Ok(Vec::new()), &work);
            let others = other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
            (whole, mine, others)
        });
        if whole? {
            let mut parts = mine?;
            parts.extend(others?);
            parts.sort_unstable_by_key(|part| part.0);
            return Ok(parts.into_iter().flat_map(|part| part.1).collect());
        }
    }
    Err(keeps_changing(doing))
}

/// What is said where that does not help.
pub(crate) fn keeps_changing(doing: &str) -> LinuxError {
    LinuxError::Refused { doing: doing.into(), reason: "it keeps changing while it is read".into() }
}

fn ask_for_dump(
    transport: &mut dyn Transport,
    doing: &str,
    request: impl Fn(u32) -> Result<Vec<u8>, WireError>,
) -> Result<u32, LinuxError> {
    let sequence = transport.next_sequence();
    let bytes = request(sequence)?;
    transport.send(&bytes).map_err(|source| LinuxError::system(doing, source))?;
    Ok(sequence)
}

/// The answer to a dump request.
pub(crate) struct RawDump {
    sequence: u32,
    datagrams: Vec<Vec<u8>>,
}

impl RawDump {
    /// Decodes the body of every message.
    pub(crate) fn decode<T>(
        &self,
        decode: impl Fn(&[u8]) -> Result<T, WireError>,
    ) -> Result<Vec<T>, LinuxError> {
        let mut found = Vec::new();
        for datagram in &self.datagrams {
            found.extend(decode_all(datagram, self.sequence, &decode)?);
        }
        Ok(found)
    }
}

/// Decodes the body of every message of a dump's datagram.
fn decode_all<T>(
    datagram: &[u8],
    sequence: u32,
    decode: &impl Fn(&[u8]) -> Result<T, WireError>,
) -> Result<Vec<T>, LinuxError> {
    let mut found = Vec::new();
    for message in split(datagram)? {
        if message.sequence == sequence && message.kind != DONE {
            found.push(decode(message.body)?);
        }
    }
    Ok(found)
}

/// Receives one dump; gives `false` if it was interrupted.
fn receive_dump(
    transport: &mut dyn Transport,
    doing: &str,
    sequence: u32,
    mut take: impl FnMut(Vec<u8>),
) -> Result<bool, LinuxError> {
    let (mut whole, mut done) = (true, false);
    while !done {
        let datagram = transport.receive().map_err(|source| LinuxError::system(doing, source))?;
        for message in split(&datagram)?.iter().filter(|it| it.sequence == sequence) {
            whole &= message.flags & DUMP_INTERRUPTED == 0;
            done |= message.kind == DONE;
            if message.kind == ERROR {
                let Answer { errno, remark, .. } = message.answer()?;
                return Err(LinuxError::refused(doing, errno, remark.as_deref()));
            }
        }
        take(datagram);
    }
    Ok(whole)
}
