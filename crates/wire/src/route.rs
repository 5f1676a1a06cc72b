//! Requests about links, addresses and routes (linux/rtnetlink.h), as far as a lab needs them.

use crate::netlink::{self, ACK, CREATE, DUMP, EXCLUSIVE, REQUEST};
use crate::{Attribute, Attributes, Fields, WireError, Writer};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

const NEW_LINK: u16 = 16;
const GET_LINK: u16 = 18;
const NEW_ADDRESS: u16 = 20;
const DELETE_ADDRESS: u16 = 21;
const GET_ADDRESS: u16 = 22;
const NEW_ROUTE: u16 = 24;
const GET_ROUTE: u16 = 26;

const LINK_ADDRESS: u16 = 1;
const LINK_NAME: u16 = 3;
const LINK_MASTER: u16 = 10;
const LINK_QUEUE: u16 = 6;
const LINK_INFO: u16 = 18;
const LINK_NAMESPACE: u16 = 28;
const LINK_CARRIER: u16 = 33;
const LINK_PROPERTIES: u16 = 52;
const LINK_PERMANENT_ADDRESS: u16 = 54;
const ALTERNATIVE_NAME: u16 = 53;
const INFO_KIND: u16 = 1;
const INFO_DATA: u16 = 2;
const INFO_PORT_KIND: u16 = 4;
const INFO_PORT_DATA: u16 = 5;
const PORT_STATE: u16 = 1;
/// `BR_STATE_FORWARDING` of linux/if_bridge.h.
const PORT_FORWARDS: u8 = 3;
/// What a link has for a queue until the kernel has got round to it: it loses everything.
const NO_QUEUE_YET: &str = "noop";
const VETH_PEER: u16 = 1;
const BRIDGE_SNOOPING: u16 = 23;
const FLAG_UP: u32 = 1;
const FLAG_LOOPBACK: u32 = 8;

const ADDRESS_ADDRESS: u16 = 1;
const ADDRESS_LOCAL: u16 = 2;
const ADDRESS_FLAGS: u16 = 8;
/// `IFA_F_PERMANENT`: not given for a time only, as by a lease or an announcement.
const PERMANENT: u32 = 0x80;
/// `IFA_F_NODAD`: usable at once, without asking whether somebody else has it.
const NO_DUPLICATE_DETECTION: u32 = 2;

const ROUTE_DESTINATION: u16 = 1;
const ROUTE_OUT: u16 = 4;
const ROUTE_GATEWAY: u16 = 5;
const ROUTE_PRIORITY: u16 = 6;
const TABLE_MAIN: u8 = 254;
const TABLE_LOCAL: u8 = 255;
const PROTOCOL_STATIC: u8 = 4;
const SCOPE_UNIVERSE: u8 = 0;
const SCOPE_HOST: u8 = 254;
const TYPE_UNICAST: u8 = 1;
const TYPE_LOCAL: u8 = 2;

fn request(
    kind: u16,
    flags: u16,
    sequence: u32,
    body: impl FnOnce(&mut Writer),
) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    netlink::write(&mut out, kind, REQUEST | ACK | flags, sequence, body);
    out.finish()
}

/// `struct ifinfomsg`.
fn link_header(out: &mut Writer, index: u32, flags: u32, change: u32) {
    out.raw(&[0; 4]);
    out.raw(&index.to_ne_bytes());
    out.raw(&flags.to_ne_bytes());
    out.raw(&change.to_ne_bytes());
}

/// The near end of a pair of links.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NearEnd<'a> {
    /// The name that the link is to have.
    pub name: &'a str,
    /// Its number; the kernel chooses one if none is given.
    pub number: Option<u32>,
    /// The hardware address that it is to have.
    pub hardware_address: [u8; 6],
}

/// Makes a pair of virtual Ethernet links, one end here, the other in the network namespace that the
/// descriptor number `peer_namespace` stands for.
///
/// # Errors
/// [`WireError`] if a name is too long.
pub fn new_pair(
    near: &NearEnd<'_>,
    peer: &str,
    peer_namespace: u32,
    sequence: u32,
) -> Result<Vec<u8>, WireError> {
    request(NEW_LINK, CREATE | EXCLUSIVE, sequence, |out| {
        link_header(out, near.number.unwrap_or(0), 0, 0);
        out.text(LINK_NAME, near.name);
        out.bytes(LINK_ADDRESS, &near.hardware_address);
        out.nest(LINK_INFO, |out| {
            out.text(INFO_KIND, "veth");
            out.nest(INFO_DATA, |out| {
                out.nest(VETH_PEER, |out| {
                    link_header(out, 0, 0, 0);
                    out.text(LINK_NAME, peer);
                    out.ne32(LINK_NAMESPACE, peer_namespace);
                });
            });
        });
    })
}

/// Makes a bridge that floods multicast to all ports.
///
/// # Errors
/// [`WireError`] if the name is too long.
pub fn new_bridge(name: &str, sequence: u32) -> Result<Vec<u8>, WireError> {
    request(NEW_LINK, CREATE | EXCLUSIVE, sequence, |out| {
        link_header(out, 0, 0, 0);
        out.text(LINK_NAME, name);
        out.nest(LINK_INFO, |out| {
            out.text(INFO_KIND, "bridge");
            out.nest(INFO_DATA, |out| out.byte(BRIDGE_SNOOPING, 0));
        });
    })
}

/// Switches a link on, and puts it on a bridge if one is given.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn link_up(index: u32, bridge: Option<u32>, sequence: u32) -> Result<Vec<u8>, WireError> {
    request(NEW_LINK, 0, sequence, |out| {
        link_header(out, index, FLAG_UP, FLAG_UP);
        if let Some(bridge) = bridge {
            out.ne32(LINK_MASTER, bridge);
        }
    })
}

/// Gives a link an address, usable at once.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn new_address(
    index: u32,
    address: IpAddr,
    prefix: u8,
    sequence: u32,
) -> Result<Vec<u8>, WireError> {
    request(NEW_ADDRESS, CREATE | EXCLUSIVE, sequence, |out| {
        // struct ifaddrmsg
        out.raw(&[family(address), prefix, 0, SCOPE_UNIVERSE]);
        out.raw(&index.to_ne_bytes());
        with_octets(address, |octets| {
            out.bytes(ADDRESS_LOCAL, octets);
            out.bytes(ADDRESS_ADDRESS, octets);
        });
        out.ne32(ADDRESS_FLAGS, NO_DUPLICATE_DETECTION);
    })
}

/// Takes an address from a link.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn delete_address(
    index: u32,
    address: IpAddr,
    prefix: u8,
    sequence: u32,
) -> Result<Vec<u8>, WireError> {
    request(DELETE_ADDRESS, 0, sequence, |out| {
        // struct ifaddrmsg
        out.raw(&[family(address), prefix, 0, SCOPE_UNIVERSE]);
        out.raw(&index.to_ne_bytes());
        with_octets(address, |octets| out.bytes(ADDRESS_LOCAL, octets));
    })
}

/// A request for all addresses of all links.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn dump_addresses(sequence: u32) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    netlink::write(&mut out, GET_ADDRESS, REQUEST | DUMP, sequence, |out| {
        out.raw(&[0; 8]);
    });
    out.finish()
}

/// An address of a link.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OwnAddress {
    /// The number of the link.
    pub link: u32,
    /// The address that this host has.
    pub address: IpAddr,
    /// How many of its bits its network has; with a far end, those of that one's.
    pub prefix: u8,
    /// The address at the far end, on a link that has just two.
    pub far_end: Option<IpAddr>,
    /// Whether it is given for a time only, as by a lease or an announcement.
    pub lent: bool,
}

/// Reads the body of an `RTM_NEWADDR` message.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode_address(body: &[u8]) -> Result<OwnAddress, WireError> {
    let mut fields = Fields::new(body, "struct ifaddrmsg");
    fields.byte()?;
    let prefix = fields.byte()?;
    let mut flags = u32::from(fields.byte()?);
    fields.take(1)?;
    let link = fields.ne32()?;
    let (mut local, mut other) = (None, None);
    for attribute in Attributes::new(fields.rest(), "RTM_NEWADDR") {
        let attribute = attribute?;
        match attribute.kind {
            ADDRESS_LOCAL => local = Some(address_in(attribute)?),
            ADDRESS_ADDRESS => other = Some(address_in(attribute)?),
            // All of them; the header has room for the first eight only.
            ADDRESS_FLAGS => flags = attribute.ne32("IFA_FLAGS")?,
            _ => {}
        }
    }
    let address = local.or(other).ok_or(WireError::Missing { what: "IFA_ADDRESS" })?;
    // On links with two ends, IFA_ADDRESS is the far end's address.
    let far_end = other.filter(|it| *it != address);
    Ok(OwnAddress { link, address, prefix, far_end, lent: flags & PERMANENT == 0 })
}

fn address_in(attribute: Attribute<'_>) -> Result<IpAddr, WireError> {
    let length = attribute.bytes.len();
    Ok(match length {
        4 => Ipv4Addr::from_bits(attribute.be32("IFA_ADDRESS")?).into(),
        16 => Ipv6Addr::from(Fields::new(attribute.bytes, "IFA_ADDRESS").sixteen()?).into(),
        _ => return Err(WireError::BadLength { what: "IFA_ADDRESS", length }),
    })
}

/// A request for all links.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn dump_links(sequence: u32) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    netlink::write(&mut out, GET_LINK, REQUEST | DUMP, sequence, |out| {
        link_header(out, 0, 0, 0);
    });
    out.finish()
}

/// A link, as the kernel lists it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Link {
    /// The number that the kernel gives it.
    pub index: u32,
    /// The name that it goes by now.
    pub name: String,
    /// Whether it is switched on.
    pub up: bool,
    /// Whether it carries packets by now: it has a carrier and a queue, and if it is a port of a bridge, that
    /// forwards. The kernel gets round to that later than it says that the link is on.
    pub carries: bool,
    /// Whether it leads back to this machine.
    pub loopback: bool,
    /// The number of the link that it is a part of.
    pub master: Option<u32>,
    /// Its hardware address; empty if it has none.
    pub hardware: Vec<u8>,
    /// The hardware address that it was made with; empty if it has none of its own.
    pub permanent: Vec<u8>,
    /// Which kind of virtual link it is, by the kernel's word, such as `bridge`.
    pub kind: Option<String>,
    /// Other names of it.
    pub alternatives: Vec<String>,
}

/// Reads the body of an `RTM_NEWLINK` message.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode_link(body: &[u8]) -> Result<Link, WireError> {
    let mut fields = Fields::new(body, "struct ifinfomsg");
    fields.take(4)?;
    let (index, flags) = (fields.ne32()?, fields.ne32()?);
    fields.take(4)?;
    let (up, loopback) = (flags & FLAG_UP != 0, flags & FLAG_LOOPBACK != 0);
    let (mut name, mut master, mut link_kind) = (None, None, None);
    let (mut carrier, mut queue, mut forwards) = (false, false, true);
    let mut port_kind = "";
    let (mut hardware, mut permanent) = (Vec::new(), Vec::new());
    let mut alternatives = Vec::new();
    for attribute in Attributes::new(fields.rest(), "RTM_NEWLINK") {
        let attribute = attribute?;
        match attribute.kind {
            LINK_NAME => name = Some(attribute.text("IFLA_IFNAME")?.to_owned()),
            LINK_ADDRESS => hardware = attribute.bytes.to_vec(),
            LINK_MASTER => master = Some(attribute.ne32("IFLA_MASTER")?),
            LINK_PERMANENT_ADDRESS => permanent = attribute.bytes.to_vec(),
            LINK_CARRIER => carrier = attribute.byte("IFLA_CARRIER")? == 1,
            LINK_QUEUE => queue = attribute.text("IFLA_QDISC")? != NO_QUEUE_YET,
            LINK_INFO => {
                for info in attribute.nested("IFLA_LINKINFO") {
                    let info = info?;
                    match info.kind {
                        INFO_KIND => link_kind = Some(info.text("IFLA_INFO_KIND")?.to_owned()),
                        INFO_PORT_KIND => port_kind = info.text("IFLA_INFO_SLAVE_KIND")?,
                        INFO_PORT_DATA if port_kind == "bridge" => {
                            for data in info.nested("IFLA_INFO_SLAVE_DATA") {
                                let data = data?;
                                if data.kind == PORT_STATE {
                                    forwards = data.byte("IFLA_BRPORT_STATE")? == PORT_FORWARDS;
                                }
                            }
                        }
                        _ => {}
                    }
                }
            }
            LINK_PROPERTIES => {
                for property in attribute.nested("IFLA_PROP_LIST") {
                    let property = property?;
                    if property.kind == ALTERNATIVE_NAME {
                        alternatives.push(property.text("IFLA_ALT_IFNAME")?.to_owned());
                    }
                }
            }
            _ => {}
        }
    }
    let name = name.ok_or(WireError::Missing { what: "IFLA_IFNAME" })?;
    let kind = link_kind;
    let carries = carrier && queue && forwards;
    Ok(Link { index, name, up, carries, loopback, master, hardware, permanent, kind, alternatives })
}

/// A request for the route that a packet to `address` would take.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn get_route(address: IpAddr, sequence: u32) -> Result<Vec<u8>, WireError> {
    let mut out = Writer::new();
    let bits = if address.is_ipv4() { 32 } else { 128 };
    netlink::write(&mut out, GET_ROUTE, REQUEST, sequence, |out| {
        out.raw(&[family(address), bits, 0, 0, 0, 0, 0, 0]);
        out.raw(&0u32.to_ne_bytes());
        with_octets(address, |octets| out.bytes(ROUTE_DESTINATION, octets));
    });
    out.finish()
}

/// Where a packet would go.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Route {
    /// Whether the route ends at this very host.
    pub is_local: bool,
    /// The index of the link by which it leaves, if it has one.
    pub link: Option<u32>,
}

/// Reads the body of an `RTM_NEWROUTE` message.
///
/// # Errors
/// [`WireError`] if it is malformed.
pub fn decode_route(body: &[u8]) -> Result<Route, WireError> {
    let mut fields = Fields::new(body, "struct rtmsg");
    fields.take(7)?;
    let is_local = fields.byte()? == TYPE_LOCAL;
    fields.take(4)?;
    let mut link = None;
    for attribute in Attributes::new(fields.rest(), "RTM_NEWROUTE") {
        let attribute = attribute?;
        if attribute.kind == ROUTE_OUT {
            link = Some(Fields::new(attribute.bytes, "RTA_OIF").ne32()?);
        }
    }
    Ok(Route { is_local, link })
}

/// Where a route leads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Via {
    /// Packets go by way of this machine.
    Gateway(IpAddr),
    /// Straight onto the link of that index. So many links can have a route to the same network,
    /// the first by number being preferred.
    Link(u32),
    /// To this machine itself: every address of the network counts as its own. The index is the
    /// loopback link's.
    Here(u32),
}

/// Adds a route to the network `address`/`prefix`.
///
/// # Errors
/// [`WireError`] never, in fact: nothing in it varies in length.
pub fn new_route(
    address: IpAddr,
    prefix: u8,
    via: Via,
    sequence: u32,
) -> Result<Vec<u8>, WireError> {
    let (table, scope, kind) = match via {
        Via::Gateway(_) | Via::Link(_) => (TABLE_MAIN, SCOPE_UNIVERSE, TYPE_UNICAST),
        Via::Here(_) => (TABLE_LOCAL, SCOPE_HOST, TYPE_LOCAL),
    };
    request(NEW_ROUTE, CREATE | EXCLUSIVE, sequence, |out| {
        // struct rtmsg
        out.raw(&[family(address), prefix, 0, 0, table, PROTOCOL_STATIC, scope, kind]);
        out.raw(&0u32.to_ne_bytes());
        if prefix > 0 {
            with_octets(address, |octets| out.bytes(ROUTE_DESTINATION, octets));
        }
        match via {
            Via::Gateway(gateway) => {
                with_octets(gateway, |octets| out.bytes(ROUTE_GATEWAY, octets));
            }
            Via::Here(index) => out.ne32(ROUTE_OUT, index),
            Via::Link(index) => {
                out.ne32(ROUTE_OUT, index);
                out.ne32(ROUTE_PRIORITY, index);
            }
        }
    })
}

fn family(address: IpAddr) -> u8 {
    if address.is_ipv4() { crate::sock_diag::FAMILY_V4 } else { crate::sock_diag::FAMILY_V6 }
}

fn with_octets(address: IpAddr, write: impl FnOnce(&[u8])) {
    match address {
        IpAddr::V4(address) => write(&address.octets()),
        IpAddr::V6(address) => write(&address.octets()),
    }
}
