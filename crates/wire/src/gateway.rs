//! By which neighbours packets leave: routes that lead everywhere, and who a neighbour is on its link; which addresses
//! packets are taken in for (rtnetlink(7)).

use crate::netlink::{self, ACK, CREATE, DUMP, REQUEST};
use crate::{Attribute, Attributes, Fields, WireError, Writer};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

const GET_ROUTE: u16 = 26;
const NEW_NEIGHBOUR: u16 = 28;
const GET_NEIGHBOUR: u16 = 30;

const ROUTE_DESTINATION: u16 = 1;
const ROUTE_OUT: u16 = 4;
const ROUTE_GATEWAY: u16 = 5;
const TABLE_MAIN: u8 = 254;
const TYPE_UNICAST: u8 = 1;
const TYPE_LOCAL: u8 = 2;

const NEIGHBOUR_ADDRESS: u16 = 1;
const NEIGHBOUR_HARDWARE: u16 = 2;
/// `NTF_USE`: the kernel is to find out who that is, as if a packet were to be sent there.
const USE: u8 = 1;
/// `NUD_REACHABLE`, `NUD_STALE`, `NUD_DELAY`, `NUD_PROBE`, `NUD_PERMANENT`: the hardware address is that of who answered
/// last, or was set.
const KNOWN: u16 = 0x02 | 0x04 | 0x08 | 0x10 | 0x80;
/// `NUD_STALE`: some time ago.
const STALE: u16 = 0x04;

/// A route that leads everywhere by way of a neighbour.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Gateway {
    /// The number of the link.
    pub link: u32,
    /// The neighbour's address.
    pub address: IpAddr,
}

/// Who has an address on a link.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Neighbour {
    /// The number of the link.
    pub link: u32,
    /// The address.
    pub address: IpAddr,
    /// The hardware address; `None` if nobody has answered.
    pub hardware: Option<[u8; 6]>,
    /// Whether that was some time ago.
    pub stale: bool,
}

/// A request for all routes of both IP versions.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn dump_routes(sequence: u32) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    // struct rtmsg
    netlink::write(&mut out, GET_ROUTE, REQUEST | DUMP, sequence, |out| out.raw(&[0; 12]));
    out.finish()
}

/// Reads the body of an `RTM_NEWROUTE` message; `None` if it is no route everywhere by way of one neighbour.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode_gateway(body: &[u8]) -> Result<Option<Gateway>, WireError> {
    let mut fields = Fields::new(body, "struct rtmsg");
    fields.byte()?;
    let prefix = fields.byte()?;
    fields.take(2)?;
    let table = fields.byte()?;
    fields.take(2)?;
    let kind = fields.byte()?;
    fields.take(4)?;
    if prefix != 0 || table != TABLE_MAIN || kind != TYPE_UNICAST {
        return Ok(None);
    }
    let (mut link, mut address) = (None, None);
    for attribute in Attributes::new(fields.rest(), "RTM_NEWROUTE") {
        let attribute = attribute?;
        match attribute.kind {
            ROUTE_OUT => link = Some(attribute.ne32("RTA_OIF")?),
            ROUTE_GATEWAY => address = Some(address_in(&attribute, "RTA_GATEWAY")?),
            _ => {}
        }
    }
    Ok(link.zip(address).map(|(link, address)| Gateway { link, address }))
}

/// Reads the body of an `RTM_NEWROUTE` message; `None` if it is no route for one address that ends at this very host.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode_own(body: &[u8]) -> Result<Option<IpAddr>, WireError> {
    let mut fields = Fields::new(body, "struct rtmsg");
    fields.take(7)?;
    let is_local = fields.byte()? == TYPE_LOCAL;
    fields.take(4)?;
    let mut address = None;
    for attribute in Attributes::new(fields.rest(), "RTM_NEWROUTE") {
        let attribute = attribute?;
        if attribute.kind == ROUTE_DESTINATION {
            address = Some(address_in(&attribute, "RTA_DST")?);
        }
    }
    Ok(address.filter(|_| is_local))
}

/// A request for all neighbours of both IP versions.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn dump_neighbours(sequence: u32) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    // struct ndmsg
    netlink::write(&mut out, GET_NEIGHBOUR, REQUEST | DUMP, sequence, |out| out.raw(&[0; 12]));
    out.finish()
}

/// Reads the body of an `RTM_NEWNEIGH` message; `None` if it is about no address of an IP version.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode_neighbour(body: &[u8]) -> Result<Option<Neighbour>, WireError> {
    let mut fields = Fields::new(body, "struct ndmsg");
    fields.take(4)?;
    let link = fields.ne32()?;
    let state = fields.take(2)?;
    let state = u16::from_ne_bytes([state[0], state[1]]);
    fields.take(2)?;
    let (mut address, mut hardware) = (None, None);
    for attribute in Attributes::new(fields.rest(), "RTM_NEWNEIGH") {
        let attribute = attribute?;
        match attribute.kind {
            NEIGHBOUR_ADDRESS if [4, 16].contains(&attribute.bytes.len()) => {
                address = Some(address_in(&attribute, "NDA_DST")?);
            }
            NEIGHBOUR_HARDWARE => hardware = <[u8; 6]>::try_from(attribute.bytes).ok(),
            _ => {}
        }
    }
    let hardware = hardware.filter(|_| state & KNOWN != 0);
    let stale = state & STALE != 0;
    Ok(address.map(|address| Neighbour { link, address, hardware, stale }))
}

/// Has the kernel find out who has an address on a link.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn find_neighbour(gateway: &Gateway, sequence: u32) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    let family = match gateway.address {
        IpAddr::V4(_) => crate::sock_diag::FAMILY_V4,
        IpAddr::V6(_) => crate::sock_diag::FAMILY_V6,
    };
    netlink::write(&mut out, NEW_NEIGHBOUR, REQUEST | ACK | CREATE, sequence, |out| {
        out.raw(&[family, 0, 0, 0]);
        out.raw(&gateway.link.to_ne_bytes());
        out.raw(&[0, 0, USE, 0]);
        match gateway.address {
            IpAddr::V4(address) => out.bytes(NEIGHBOUR_ADDRESS, &address.octets()),
            IpAddr::V6(address) => out.bytes(NEIGHBOUR_ADDRESS, &address.octets()),
        }
    });
    out.finish()
}

fn address_in(attribute: &Attribute<'_>, what: &'static str) -> Result<IpAddr, WireError> {
    let length = attribute.bytes.len();
    Ok(match length {
        4 => Ipv4Addr::from_bits(attribute.be32(what)?).into(),
        16 => Ipv6Addr::from(Fields::new(attribute.bytes, what).sixteen()?).into(),
        _ => return Err(WireError::BadLength { what, length }),
    })
}
