//! Listing of sockets (linux/sock_diag.h, linux/inet_diag.h).

use crate::netlink::{self, DUMP, REQUEST};
use crate::{Attributes, Fields, WireError, Writer};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// `SOCK_DIAG_BY_FAMILY`.
pub(crate) const BY_FAMILY: u16 = 20;
/// `AF_INET`.
pub const FAMILY_V4: u8 = 2;
/// `AF_INET6`.
pub const FAMILY_V6: u8 = 10;
/// `TCP_ESTABLISHED`.
pub const STATE_ESTABLISHED: u8 = 1;
/// The states in which a TCP connection is under way: not closed, not `TCP_TIME_WAIT`, not listening.
pub const STATES_UNDER_WAY: [u8; 8] = [STATE_ESTABLISHED, 2, 3, 4, 5, 8, 9, 11];
/// `TCP_LISTEN`.
pub const STATE_LISTEN: u8 = 10;
/// `TCP_CLOSE`: for UDP, a socket that is not connected.
pub const STATE_CLOSE: u8 = 7;

const V6_ONLY: u16 = 11;
const LOCALS: u16 = 12;
const MARK: u16 = 15;
/// `struct sockaddr_storage`, one for each address of an SCTP socket.
const STORAGE: usize = 128;
const SOCKET_ID: usize = 48;

/// A socket, as the kernel lists it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Socket {
    /// The address it is bound to.
    pub address: IpAddr,
    /// The port it is bound to.
    pub port: u16,
    /// The far end's address and port; zeros if there is none.
    pub peer: (IpAddr, u16),
    /// `idiag_state`.
    pub state: u8,
    /// Index of the interface it is bound to, 0 for none.
    pub interface: u32,
    /// The kernel's own number of the socket, which no other ever has (`idiag_cookie`).
    pub cookie: [u8; 8],
    /// The user who made it.
    pub uid: u32,
    /// Number of the socket's file, as in `/proc/PID/fd`.
    pub inode: u32,
    /// For IPv6 sockets: whether IPv4 is left out.
    pub v6_only: bool,
    /// Every address that an SCTP socket is bound to; none for other sockets.
    pub addresses: Vec<IpAddr>,
    /// The socket's mark, which the kernel shows only to some; `None` may also be no mark.
    pub mark: Option<u32>,
}

/// A request for all sockets of a family and protocol in one of some states.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn request(
    family: u8,
    protocol: u8,
    states: &[u8],
    sequence: u32,
) -> Result<Vec<u8>, WireError> {
    let states = states.iter().fold(0u32, |all, state| all | 1 << state);
    let mut out = Writer::new();
    netlink::write(&mut out, BY_FAMILY, REQUEST | DUMP, sequence, |out| {
        // struct inet_diag_req_v2
        out.raw(&[family, protocol, 0, 0]);
        out.raw(&states.to_ne_bytes());
        out.raw(&[0; SOCKET_ID]);
    });
    out.finish()
}

/// Reads the body of an answer: `struct inet_diag_msg` and attributes.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode(body: &[u8]) -> Result<Socket, WireError> {
    let mut fields = Fields::new(body, "struct inet_diag_msg");
    let family = fields.byte()?;
    let state = fields.byte()?;
    fields.take(2)?;
    let (port, peer_port) = (fields.be16()?, fields.be16()?);
    let (own, peer) = (fields.sixteen()?, fields.sixteen()?);
    let interface = fields.ne32()?;
    let mut cookie = [0; 8];
    cookie.copy_from_slice(fields.take(8)?);
    fields.take(12)?;
    let (uid, inode) = (fields.ne32()?, fields.ne32()?);
    let address = |bytes: [u8; 16]| -> IpAddr {
        if family == FAMILY_V4 {
            let [a, b, c, d, ..] = bytes;
            Ipv4Addr::new(a, b, c, d).into()
        } else {
            Ipv6Addr::from(bytes).into()
        }
    };
    let (address, peer) = (address(own), (address(peer), peer_port));
    let mut socket = Socket {
        address,
        port,
        peer,
        state,
        interface,
        cookie,
        uid,
        inode,
        v6_only: false,
        addresses: Vec::new(),
        mark: None,
    };
    for attribute in Attributes::new(fields.rest(), "inet_diag attributes") {
        let attribute = attribute?;
        match attribute.kind {
            V6_ONLY => socket.v6_only = attribute.byte("INET_DIAG_SKV6ONLY")? != 0,
            LOCALS => socket.addresses = storages(attribute.bytes)?,
            MARK => socket.mark = Some(attribute.ne32("INET_DIAG_MARK")?),
            _ => {}
        }
    }
    Ok(socket)
}

/// The addresses of a list of `struct sockaddr_storage`; of families other than IP there are none.
fn storages(bytes: &[u8]) -> Result<Vec<IpAddr>, WireError> {
    let mut addresses = Vec::new();
    for one in bytes.chunks_exact(STORAGE) {
        let mut fields = Fields::new(one, "struct sockaddr_storage");
        let family = u8::try_from(fields.ne16()?).unwrap_or_default();
        fields.be16()?;
        match family {
            FAMILY_V4 => addresses.push(Ipv4Addr::from_bits(fields.be32()?).into()),
            FAMILY_V6 => {
                fields.take(4)?;
                addresses.push(Ipv6Addr::from(fields.sixteen()?).into());
            }
            _ => {}
        }
    }
    Ok(addresses)
}

/// `SOCK_DESTROY`.
const DESTROY: u16 = 21;

/// A request that the kernel end a socket of this host: that very one, by its cookie. By addresses and
/// ports alone the kernel would find the listener once the connection is gone.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn destroy(protocol: u8, socket: &Socket, sequence: u32) -> Result<Vec<u8>, WireError> {
    let sixteen = |address: IpAddr| match address {
        IpAddr::V4(address) => {
            let mut bytes = [0; 16];
            bytes[..4].copy_from_slice(&address.octets());
            bytes
        }
        IpAddr::V6(address) => address.octets(),
    };
    let family = if socket.address.is_ipv4() { FAMILY_V4 } else { FAMILY_V6 };
    let mut out = Writer::new();
    netlink::write(&mut out, DESTROY, REQUEST | netlink::ACK, sequence, |out| {
        // struct inet_diag_req_v2, struct inet_diag_sockid
        out.raw(&[family, protocol, 0, 0]);
        out.raw(&u32::MAX.to_ne_bytes());
        out.raw(&socket.port.to_be_bytes());
        out.raw(&socket.peer.1.to_be_bytes());
        out.raw(&sixteen(socket.address));
        out.raw(&sixteen(socket.peer.0));
        out.raw(&socket.interface.to_ne_bytes());
        out.raw(&socket.cookie);
    });
    out.finish()
}
