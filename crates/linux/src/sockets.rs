//! What listens on this host, and which program it belongs to.

use crate::LinuxError;
use crate::transport::{Transport, dump};
use rustix::net::{Protocol, SocketType, ipproto};
use serde::{Deserialize, Serialize, Serializer};
use std::collections::HashMap;
use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
pub use tipstaff_core::space::PortProtocol;
use tipstaff_wire::sock_diag::{
    self, FAMILY_V4, FAMILY_V6, STATE_CLOSE, STATE_ESTABLISHED, STATE_LISTEN, STATES_UNDER_WAY,
};

/// The process that holds a socket.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Owner {
    /// The number of the process.
    pub pid: u32,
    /// The file it runs; `None` for kernel threads and where the caller may not look.
    #[serde(serialize_with = "as_text")]
    pub program: Option<PathBuf>,
}

/// A path may be no text; what is written down is.
fn as_text<S: Serializer>(path: &Option<PathBuf>, to: S) -> Result<S::Ok, S::Error> {
    path.as_ref().map(|it| it.to_string_lossy()).serialize(to)
}

/// A socket that waits for traffic.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Listener {
    /// The protocol that it speaks.
    pub protocol: PortProtocol,
    /// The address it is bound to.
    pub address: IpAddr,
    /// The port it is bound to.
    pub port: u16,
    /// Whether it takes IPv4 too although its address is IPv6.
    pub dual: bool,
    /// The number of the user who made it.
    pub uid: u32,
    /// The socket's mark; `None` if the kernel does not show it.
    pub mark: Option<u32>,
    /// The process that holds it, the first by number; `None` if it could not be found, as is
    /// usual for sockets of other users without the right to look.
    pub owner: Option<Owner>,
}

/// Lists the sockets of some protocols that wait for traffic in the transport's network namespace, by port.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
///
/// # References
/// `sock_diag(7)`, `proc(5)`.
pub(crate) fn waiting(
    transport: &mut dyn Transport,
    protocols: &[PortProtocol],
) -> Result<Vec<Listener>, LinuxError> {
    let found = all_waiting(transport, protocols)?;
    // To find them means to look at every file of every process.
    let owners = if found.is_empty() { HashMap::new() } else { owners() };
    let mut listeners: Vec<Listener> = Vec::new();
    for (protocol, socket) in found {
        // An SCTP socket may be bound to some of the host's addresses; the one that it shows by itself is
        // that of its last association.
        let one = [socket.address];
        let addresses = if socket.addresses.is_empty() { &one } else { &socket.addresses[..] };
        listeners.extend(addresses.iter().map(|&address| Listener {
            protocol,
            address,
            port: socket.port,
            dual: address.is_ipv6() && address.is_unspecified() && !socket.v6_only,
            uid: socket.uid,
            mark: socket.mark,
            owner: owners.get(&socket.inode).cloned(),
        }));
    }
    listeners.sort_by_key(|it| (it.port, it.protocol, it.address));
    // Several sockets of one program may share a port.
    listeners.dedup();
    Ok(listeners)
}

/// A socket that waits for traffic, as it is told apart from others. It may have passed from one process to another.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Waiting {
    /// The protocol that it speaks.
    pub protocol: PortProtocol,
    /// The address it is bound to.
    pub address: IpAddr,
    /// The port it is bound to.
    pub port: u16,
    /// The number of its file; another socket with the same port has another.
    pub inode: u32,
}

/// Lists the same sockets as [`waiting`], without looking for the processes that hold them.
///
/// # Errors
/// As there.
pub(crate) fn waiting_unowned(
    transport: &mut dyn Transport,
    protocols: &[PortProtocol],
) -> Result<Vec<Waiting>, LinuxError> {
    let one = |(protocol, it): (PortProtocol, sock_diag::Socket)| Waiting {
        protocol,
        address: it.address,
        port: it.port,
        inode: it.inode,
    };
    Ok(all_waiting(transport, protocols)?.into_iter().map(one).collect())
}

fn all_waiting(
    transport: &mut dyn Transport,
    protocols: &[PortProtocol],
) -> Result<Vec<(PortProtocol, sock_diag::Socket)>, LinuxError> {
    let mut found = Vec::new();
    for &protocol in protocols {
        let state = match protocol {
            PortProtocol::Tcp | PortProtocol::Sctp => STATE_LISTEN,
            PortProtocol::Udp => STATE_CLOSE,
        };
        let sockets = list(transport, protocol, &[state])?;
        let waiting = sockets.into_iter().filter(|it| it.port != 0 && it.state == state);
        found.extend(waiting.map(|socket| (protocol, socket)));
    }
    Ok(found)
}

/// Sockets of both IP versions in some states; none of a protocol that this kernel has not got.
fn list(
    transport: &mut dyn Transport,
    protocol: PortProtocol,
    states: &[u8],
) -> Result<Vec<sock_diag::Socket>, LinuxError> {
    let mut found = Vec::new();
    for family in [FAMILY_V4, FAMILY_V6] {
        let sockets = dump(
            transport,
            &format!("list the sockets of {protocol}"),
            |sequence| sock_diag::request(family, protocol.number(), states, sequence),
            sock_diag::decode,
        );
        match sockets {
            Ok(sockets) => found.extend(sockets),
            // Nobody can list them: that is none only if there can be none.
            Err(LinuxError::Refused { reason, .. })
                if reason.is_missing() && !is_known(protocol) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(found)
}

/// Whether the kernel has a protocol, as far as that can be told (`/proc/net/protocols`).
fn is_known(protocol: PortProtocol) -> bool {
    let name = protocol.as_str().to_ascii_uppercase();
    fs::read_to_string("/proc/net/protocols").map_or(true, |text| {
        text.lines().filter_map(|line| line.split_whitespace().next()).any(|it| it == name)
    })
}

/// The sort of sockets that speak a protocol.
pub(crate) fn kind(protocol: PortProtocol) -> (SocketType, Protocol) {
    match protocol {
        PortProtocol::Tcp => (SocketType::STREAM, ipproto::TCP),
        PortProtocol::Udp => (SocketType::DGRAM, ipproto::UDP),
        PortProtocol::Sctp => (SocketType::STREAM, ipproto::SCTP),
    }
}

/// A connection that stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Connection {
    /// Its protocol; UDP where a program has chosen one partner.
    pub protocol: PortProtocol,
    /// The end at this host.
    pub own: SocketAddr,
    /// The end at the other host.
    pub peer: SocketAddr,
    /// Whether it stands: data may still come and go. TCP connections that are being opened or closed
    /// do not.
    pub established: bool,
    /// The socket, as the kernel tells it.
    pub(crate) socket: sock_diag::Socket,
}

impl Connection {
    /// The number of the user who made its socket.
    #[must_use]
    pub fn uid(&self) -> u32 {
        self.socket.uid
    }

    /// The socket's mark; `None` if the kernel does not show it.
    #[must_use]
    pub fn mark(&self) -> Option<u32> {
        self.socket.mark
    }

    /// One that is known by its ends, the number of its file and its user only.
    pub(crate) fn remembered(
        protocol: PortProtocol,
        (own, peer): (SocketAddr, SocketAddr),
        established: bool,
        (inode, uid): (u32, u32),
    ) -> Self {
        let socket = sock_diag::Socket {
            address: own.ip(),
            port: own.port(),
            peer: (peer.ip(), peer.port()),
            state: if established { STATE_ESTABLISHED } else { STATE_CLOSE },
            interface: 0,
            cookie: [0; 8],
            uid,
            inode,
            v6_only: false,
            addresses: Vec::new(),
            mark: None,
        };
        Self { protocol, own, peer, established, socket }
    }

    /// The process that holds this host's end, of those that were looked up.
    #[must_use]
    pub fn owner<'o>(&self, owners: &'o Owners) -> Option<&'o Owner> {
        owners.0.get(&self.socket.inode)
    }
}

/// The processes that hold sockets.
#[derive(Debug)]
pub struct Owners(pub(crate) HashMap<u32, Owner>);

impl Owners {
    /// Looks them up. Processes that vanish or may not be looked into are passed over.
    pub(crate) fn look() -> Self {
        Self(owners())
    }
}

/// Lists the connections of some protocols in the transport's network namespace, also TCP connections that are being
/// opened or closed. IPv4 addresses in IPv6 form are given as IPv4.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn under_way(
    transport: &mut dyn Transport,
    protocols: &[PortProtocol],
) -> Result<Vec<Connection>, LinuxError> {
    let mut found = Vec::new();
    for &protocol in protocols {
        let states = match protocol {
            PortProtocol::Tcp => &STATES_UNDER_WAY[..],
            PortProtocol::Udp | PortProtocol::Sctp => &[STATE_ESTABLISHED],
        };
        let sockets = list(transport, protocol, states)?;
        found.extend(sockets.into_iter().map(|it| Connection {
            protocol,
            own: SocketAddr::new(it.address.to_canonical(), it.port),
            peer: SocketAddr::new(it.peer.0.to_canonical(), it.peer.1),
            established: it.state == STATE_ESTABLISHED,
            socket: it,
        }));
    }
    Ok(found)
}

/// For each socket's number, the process that holds it. Processes that vanish or may not be
/// looked into are passed over.
fn owners() -> HashMap<u32, Owner> {
    let mut owners: HashMap<u32, Owner> = HashMap::new();
    let Ok(processes) = fs::read_dir("/proc") else {
        return owners;
    };
    for process in processes.flatten() {
        let Some(pid) = process.file_name().to_str().and_then(|name| name.parse().ok()) else {
            continue;
        };
        let Ok(descriptors) = fs::read_dir(process.path().join("fd")) else {
            continue;
        };
        for descriptor in descriptors.flatten() {
            let Some(inode) = socket_number(&descriptor.path()) else {
                continue;
            };
            let program = || fs::read_link(process.path().join("exe")).ok();
            match owners.get_mut(&inode) {
                Some(owner) if owner.pid <= pid => {}
                Some(owner) => *owner = Owner { pid, program: program() },
                None => {
                    owners.insert(inode, Owner { pid, program: program() });
                }
            }
        }
    }
    owners
}

pub(crate) fn socket_number(descriptor: &Path) -> Option<u32> {
    let target = fs::read_link(descriptor).ok()?;
    target.to_str()?.strip_prefix("socket:[")?.strip_suffix(']')?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::{PortProtocol, is_known, under_way, waiting};
    use crate::transport::Transport;
    use std::io;

    /// A kernel that lists no sockets of one protocol, as where a module is missing, and has none of others.
    struct Unlisted {
        protocol: u8,
        asked: Option<(u8, u32)>,
        sequence: u32,
    }

    impl Unlisted {
        fn new(protocol: PortProtocol) -> Self {
            Self { protocol: protocol.number(), asked: None, sequence: 0 }
        }
    }

    impl Transport for Unlisted {
        fn send(&mut self, bytes: &[u8]) -> io::Result<()> {
            // Behind the header of the message: family, protocol.
            self.asked = Some((bytes[17], self.sequence));
            Ok(())
        }

        fn receive(&mut self) -> io::Result<Vec<u8>> {
            let (protocol, sequence) = self.asked.take().expect("it was asked");
            let missing = protocol == self.protocol;
            // struct nlmsghdr: NLMSG_ERROR with -ENOENT, or NLMSG_DONE.
            let (kind, value) = if missing { (2u16, -2i32) } else { (3, 0) };
            let mut answer = Vec::new();
            let body: Vec<u8> = if missing {
                [value.to_ne_bytes().to_vec(), vec![0; 16]].concat()
            } else {
                value.to_ne_bytes().to_vec()
            };
            let length = u32::try_from(16 + body.len()).expect("short");
            answer.extend(length.to_ne_bytes());
            answer.extend(kind.to_ne_bytes());
            answer.extend([2, 0]);
            answer.extend(sequence.to_ne_bytes());
            answer.extend([0; 4]);
            answer.extend(body);
            Ok(answer)
        }

        fn next_sequence(&mut self) -> u32 {
            self.sequence += 1;
            self.sequence
        }
    }

    #[test]
    fn what_cannot_be_listed_is_none_only_where_there_can_be_none() {
        let sctp = || Unlisted::new(PortProtocol::Sctp);
        let (all, tcp) = (PortProtocol::ALL, [PortProtocol::Tcp]);
        assert_eq!(waiting(&mut sctp(), &all).is_ok(), !is_known(PortProtocol::Sctp));
        // What needs no such sockets does not fail for them.
        assert_eq!(waiting(&mut sctp(), &tcp).expect("listed"), []);
        assert_eq!(under_way(&mut sctp(), &tcp).expect("listed"), []);
        assert!(is_known(PortProtocol::Tcp), "every machine that tests run on has TCP");
        for error in [
            waiting(&mut Unlisted::new(PortProtocol::Tcp), &all).expect_err("not listed"),
            under_way(&mut Unlisted::new(PortProtocol::Tcp), &tcp).expect_err("not listed"),
        ] {
            assert!(error.to_string().contains("list the sockets of tcp"), "{error}");
        }
    }
}
