//! A copy of a machine's whole live rule set, links, addresses and listeners in a lab, so that
//! the machine as it stands can be tried with nothing sent on its real network.

use crate::addresses::links;
use crate::batch::deliver;
use crate::foreign::older;
use crate::lab::{Stage, StageLink};
use crate::machine::{Here, Machine};
use crate::ruleset::WATCH_TABLES;
use crate::sockets::{Listener, PortProtocol, kind};
use crate::sys::mark;
use crate::transport::{NetlinkSocket, Protocol, Transport, dump};
use crate::{LinuxError, Reason};
use rustix::fd::{AsFd, OwnedFd};
use rustix::net::{AddressFamily, SocketFlags, SocketType, bind, listen, socket_with, sockopt};
use std::collections::HashSet;
use std::fs;
use std::net::{Ipv6Addr, SocketAddr};
use tipstaff_core::space::ByProtocol;
use tipstaff_wire::nf_tables::{self as nf, Batch, Copied, message_kind};

const READING: &str = "copy the kernel's rules";
/// The kernel may refuse something only after something else has been left out.
const TRIES: usize = 32;
/// A machine's set-up, copied.
#[derive(Debug)]
pub struct Replica {
    objects: Vec<Copied>,
    links: Vec<StageLink>,
    listeners: Vec<Listener>,
    forwards: bool,
    /// What could not be copied, in words.
    pub missing: Vec<String>,
}

/// A copy that stands in a lab.
#[derive(Debug)]
pub struct Standing {
    /// The lab in which it stands.
    pub stage: Stage,
    /// What could not be copied, in words.
    pub missing: Vec<String>,
    /// What stands for the listeners: they can be reached as long as these are open.
    pub sockets: Vec<OwnedFd>,
}

impl Replica {
    /// Copies what is in the calling thread's network namespace.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    pub fn take() -> Result<Self, LinuxError> {
        let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
        let mut objects = Vec::new();
        for kind in &nf::KINDS {
            if kind.new == message_kind::NEW_ELEMENTS {
                objects.extend(elements(&mut kernel, kind)?);
                continue;
            }
            let known = u32::try_from(objects.len()).unwrap_or(0);
            let found: Vec<Vec<u8>> = dump(
                &mut kernel,
                READING,
                |sequence| nf::dump(kind.get, 0, sequence, |_| {}),
                |body| Ok(body.to_vec()),
            )?;
            for (number, body) in (known + 1..).zip(found) {
                objects.push(Copied::decode(kind, &body, number)?);
            }
        }
        objects.retain(|it| !it.table.starts_with(WATCH_TABLES));
        let missing = older();
        let links = links(&mut NetlinkSocket::open(Protocol::Route)?)?;
        let links = links
            .into_iter()
            .map(|it| StageLink { name: it.name, index: Some(it.index), addresses: it.addresses })
            .collect();
        let listeners = (&Here as &dyn Machine).listeners()?.found;
        let on = |path: &str| fs::read_to_string(path).is_ok_and(|it| it.trim() == "1");
        let forwards =
            on("/proc/sys/net/ipv4/ip_forward") || on("/proc/sys/net/ipv6/conf/all/forwarding");
        Ok(Self { objects, links, listeners, forwards, missing })
    }

    /// Leaves out all tables but those to keep, which are told by family (`nfgen_family`) and name.
    pub fn keep(&mut self, keep: impl Fn(u8, &str) -> bool) {
        self.objects.retain(|it| keep(it.family, &it.table));
    }

    /// Whether the machine passes packets on from one link to another.
    #[must_use]
    pub fn forwards(&self) -> bool {
        self.forwards
    }

    /// The links that are copied, with their addresses.
    #[must_use]
    pub fn links(&self) -> &[StageLink] {
        &self.links
    }

    /// Sets the copy up, in a sealed process (see [`crate::lab::seal`]).
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses; what it refuses of the rules is left out and named in
    /// [`Standing::missing`].
    pub fn set_up(self, name: &str) -> Result<Standing, LinuxError> {
        let Self { mut objects, links, listeners, forwards, mut missing } = self;
        let stage = Stage::build(name, &links, forwards)?;
        let (sockets, refused, unheard) = stage.host().run(|| {
            let (mut sockets, mut unheard) = (Vec::new(), Vec::new());
            for listener in &listeners {
                match stand_in(listener) {
                    Ok(socket) => sockets.push(socket),
                    Err(error) => unheard.push(format!(
                        "the listener at {} {}: {error}",
                        listener.protocol.as_str(),
                        SocketAddr::new(listener.address, listener.port)
                    )),
                }
            }
            let refused = load(&mut objects)?;
            Ok::<_, LinuxError>((sockets, refused, unheard))
        })??;
        missing.extend(refused);
        missing.extend(unheard);
        Ok(Standing { stage, missing, sockets })
    }
}

/// The elements of all sets.
fn elements(kernel: &mut NetlinkSocket, kind: &nf::Kind) -> Result<Vec<Copied>, LinuxError> {
    let sets: Vec<nf::Set> = dump(
        kernel,
        READING,
        |sequence| nf::dump(message_kind::GET_SET, 0, sequence, |_| {}),
        nf::Set::decode,
    )?;
    let mut found = Vec::new();
    for set in sets {
        found.extend(dump(
            kernel,
            READING,
            |sequence| nf::dump(kind.get, set.family, sequence, |out| set.write_request(out)),
            |body| Copied::decode(kind, body, 0),
        )?);
    }
    Ok(found)
}

/// Loads the objects into the calling thread's namespace. What the kernel refuses is left out,
/// and given back in words.
fn load(objects: &mut Vec<Copied>) -> Result<Vec<String>, LinuxError> {
    const DOING: &str = "load a copy of the rules into a lab";
    let mut refused = Vec::new();
    let mut socket = NetlinkSocket::open(Protocol::Netfilter)?;
    for _ in 0..TRIES {
        let first = socket.next_sequence();
        let mut batch = Batch::begin(first);
        for object in objects.iter() {
            batch.again(object);
        }
        let mut wrong = HashSet::new();
        // The kernel reports all that is wrong at once.
        for (message, answer) in deliver(&mut socket, DOING, &batch.finish()?)? {
            let at = message.wrapping_sub(first + 1) as usize;
            let Some(object) = objects.get(at) else {
                return Err(LinuxError::refused(DOING, answer.errno, answer.remark.as_deref()));
            };
            let reason = Reason::numbered(answer.errno, answer.remark.as_deref());
            if wrong.insert(at) {
                refused.push(format!("{}: {reason}", object.words()));
            }
        }
        if wrong.is_empty() {
            return Ok(refused);
        }
        let mut at = 0;
        objects.retain(|_| {
            at += 1;
            !wrong.contains(&(at - 1))
        });
        // Nothing of an earlier attempt is left behind in this socket's queue.
        socket = NetlinkSocket::open(Protocol::Netfilter)?;
    }
    Err(LinuxError::Refused {
        doing: DOING.into(),
        reason: format!("too much of it is refused, such as {}", refused.join("; ")).into(),
    })
}

/// Sockets that listen at ports of a host, for either IP version: what comes in is theirs.
#[derive(Debug)]
pub struct Doors {
    _sockets: Vec<OwnedFd>,
}

impl Doors {
    /// Opens them for the calling thread's network namespace, with a mark, so that rules take them
    /// for those of a program. At ports of protocols of which the kernel cannot tell whose a packet
    /// is, nobody would be found; there are none.
    ///
    /// # Errors
    /// [`LinuxError`] if the system refuses.
    pub fn open(ports: &ByProtocol<Vec<u16>>, mark: u32) -> Result<Self, LinuxError> {
        let door = |protocol: PortProtocol, port: u16| {
            let door = Listener {
                protocol,
                address: Ipv6Addr::UNSPECIFIED.into(),
                port,
                dual: true,
                uid: 0,
                mark: Some(mark),
                owner: None,
            };
            stand_in(&door).map_err(|source| {
                LinuxError::system(
                    format!("listen at {port}/{} in the lab", protocol.as_str()),
                    source,
                )
            })
        };
        let doors = ports
            .iter()
            .filter(|(protocol, _)| protocol.has_known_receivers())
            .flat_map(|(protocol, ports)| ports.iter().map(move |port| (protocol, *port)));
        Ok(Self { _sockets: doors.map(|it| door(it.0, it.1)).collect::<Result<_, _>>()? })
    }
}

/// A socket like the listener's.
fn stand_in(listener: &Listener) -> std::io::Result<OwnedFd> {
    let family =
        if listener.address.is_ipv4() { AddressFamily::INET } else { AddressFamily::INET6 };
    let (kind, protocol) = kind(listener.protocol);
    let socket = socket_with(family, kind, SocketFlags::CLOEXEC, Some(protocol))?;
    if listener.address.is_ipv6() {
        sockopt::set_ipv6_v6only(&socket, !listener.dual)?;
    }
    sockopt::set_socket_reuseport(&socket, true)?;
    // Rules may ask whose it is.
    if let Some(mark) = listener.mark.filter(|it| *it != 0) {
        mark::set_mark(socket.as_fd(), mark)?;
    }
    bind(&socket, &SocketAddr::new(listener.address, listener.port))?;
    if kind == SocketType::STREAM {
        listen(&socket, 1)?;
    }
    Ok(socket)
}
