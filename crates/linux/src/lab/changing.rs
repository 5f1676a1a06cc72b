//! For tests: links of the calling thread's machine that are renamed or become parts of others.

// Tests say what they expect of the system by failing.
#![allow(clippy::missing_panics_doc)]

use super::link::{Links, index};
use crate::sys::namespace::Namespace;
use crate::transport::{NetlinkSocket, Protocol, ask};
use std::net::{IpAddr, Ipv4Addr};
use tipstaff_wire::Writer;
use tipstaff_wire::netlink::{self, ACK, CREATE, EXCLUSIVE, REQUEST};
use tipstaff_wire::route::{Via, delete_address};

// linux/rtnetlink.h and linux/if_link.h
const NEW_LINK: u16 = 16;
const DELETE_LINK: u16 = 17;
const NEW_LINK_PROPERTY: u16 = 108;
const NAME: u16 = 3;
const INFO: u16 = 18;
const INFO_KIND: u16 = 1;
const INFO_DATA: u16 = 2;
const VXLAN_ID: u16 = 1;
const VXLAN_FAR_END: u16 = 2;
const VXLAN_NEAR_END: u16 = 4;
const VXLAN_PORT: u16 = 15;
const PROPERTIES: u16 = 52;
const ALTERNATIVE_NAME: u16 = 53;
const UP: u32 = 1;

fn request(kind: u16, flags: u16, link: u32, up: Option<bool>, more: impl Fn(&mut Writer)) {
    let mut socket = NetlinkSocket::open(Protocol::Route).expect("a socket");
    let done = ask(&mut socket, "change a link", |sequence| {
        let mut out = Writer::new();
        netlink::write(&mut out, kind, REQUEST | ACK | flags, sequence, |out| {
            // struct ifinfomsg
            out.raw(&[0; 4]);
            out.raw(&link.to_ne_bytes());
            out.raw(&u32::from(up == Some(true)).to_ne_bytes());
            out.raw(&if up.is_some() { UP } else { 0 }.to_ne_bytes());
            more(out);
        });
        out.finish()
    });
    done.expect("a link is changed");
}

/// Renames a link. It loses its IPv6 addresses and its routes but those of its own networks.
pub fn rename(link: &str, name: &str) {
    let number = index(link).expect("a number");
    request(NEW_LINK, 0, number, Some(false), |_| {});
    request(NEW_LINK, 0, number, None, |out| out.text(NAME, name));
    request(NEW_LINK, 0, number, Some(true), |_| {});
}

/// Switches a link on or off.
pub fn switch(link: &str, on: bool) {
    request(NEW_LINK, 0, index(link).expect("a number"), Some(on), |_| {});
}

/// Takes a link away.
pub fn remove(link: &str) {
    request(DELETE_LINK, 0, index(link).expect("a number"), None, |_| {});
}

/// Makes a link with both its ends here, and switches them on; nobody takes in what comes out at the far one.
pub fn make(link: &str, far_end: &str) {
    let here = Namespace::current().expect("its namespace");
    let mut links = Links::open().expect("a socket");
    links.pair(link, None, [2, 0, 0, 0, 0, 99], far_end, &here).expect("a pair");
    switch(link, true);
    switch(far_end, true);
}

/// Makes a tunnel of Ethernet frames in UDP datagrams to a far end (RFC 7348), and switches it on; `false` if this
/// kernel has none.
pub fn tunnel(link: &str, near_end: Ipv4Addr, far_end: Ipv4Addr, port: u16) -> bool {
    let mut socket = NetlinkSocket::open(Protocol::Route).expect("a socket");
    let made = ask(&mut socket, "make a tunnel", |sequence| {
        let mut out = Writer::new();
        netlink::write(&mut out, NEW_LINK, REQUEST | ACK | CREATE | EXCLUSIVE, sequence, |out| {
            out.raw(&[0; 16]);
            out.text(NAME, link);
            out.nest(INFO, |out| {
                out.text(INFO_KIND, "vxlan");
                out.nest(INFO_DATA, |out| {
                    out.ne32(VXLAN_ID, 99);
                    out.bytes(VXLAN_FAR_END, &far_end.octets());
                    out.bytes(VXLAN_NEAR_END, &near_end.octets());
                    out.bytes(VXLAN_PORT, &port.to_be_bytes());
                });
            });
        });
        out.finish()
    });
    let made = made.is_ok();
    if made {
        switch(link, true);
    }
    made
}

/// Adds a route.
pub fn route(network: IpAddr, prefix: u8, via: &Way<'_>) {
    let via = match via {
        Way::Link(link) => Via::Link(index(link).expect("a number")),
        Way::Gateway(gateway) => Via::Gateway(*gateway),
    };
    Links::open().expect("a socket").route((network, prefix), via).expect("a route");
}

/// Where a route leads.
#[derive(Clone, Copy, Debug)]
pub enum Way<'w> {
    /// Out by a link.
    Link(&'w str),
    /// To a neighbour.
    Gateway(IpAddr),
}

/// Gives a link another name beside its own.
pub fn call_also(link: &str, name: &str) {
    let number = index(link).expect("a number");
    request(NEW_LINK_PROPERTY, CREATE | EXCLUSIVE, number, None, |out| {
        out.nest(PROPERTIES, |out| out.text(ALTERNATIVE_NAME, name));
    });
}

/// Gives a link an address with a prefix length.
pub fn gain(link: &str, address: IpAddr, prefix: u8) {
    let mut links = Links::open().expect("a socket");
    links.address(index(link).expect("a number"), (address, prefix)).expect("an address");
}

/// Takes an address from a link.
pub fn lose(link: &str, address: IpAddr, prefix: u8) {
    let number = index(link).expect("a number");
    let mut socket = NetlinkSocket::open(Protocol::Route).expect("a socket");
    let done = ask(&mut socket, "take an address away", |sequence| {
        delete_address(number, address, prefix, sequence)
    });
    done.expect("an address is taken away");
}

/// Makes a link a part of a new bridge of that name, by which answers to a neighbour leave.
pub fn bridge(link: &str, name: &str, neighbour: Ipv4Addr) {
    let mut links = Links::open().expect("a socket");
    let master = links.bridge(name).expect("a bridge");
    links.up(link, index(link).expect("a number"), Some(master)).expect("a part of it");
    links.route((neighbour.into(), 32), Via::Link(master)).expect("a route");
}
