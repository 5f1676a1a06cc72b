//! The addresses of a host's links, and where its packets go.

use crate::LinuxError;
use crate::transport::{Transport, dump};
use rustix::net::{AddressFamily, SocketType, netdevice, socket};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;
use tipstaff_core::plan::{LinkSeen, Whole};
use tipstaff_core::space::HardwareAddress;
use tipstaff_wire::netlink::{ERROR, split};
use tipstaff_wire::route::{self, OwnAddress, Route};
use tipstaff_wire::routing_rule::{self, MarkRule};

/// Lists the addresses of all links of the transport's network namespace.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn addresses(transport: &mut dyn Transport) -> Result<Vec<IpAddr>, LinuxError> {
    Ok(of_links(transport)?.iter().map(|it| it.address).collect())
}

/// Lists the addresses of all links with their prefix lengths.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn of_links(transport: &mut dyn Transport) -> Result<Vec<OwnAddress>, LinuxError> {
    dump(transport, "list addresses", route::dump_addresses, route::decode_address)
}

/// A link of this host besides the loopback one, with its addresses.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// The number that the kernel gives it.
    pub index: u32,
    /// The name that it goes by now.
    pub name: String,
    /// Its addresses with prefix lengths.
    pub addresses: Vec<(IpAddr, u8)>,
    /// The addresses at its far end, with prefix lengths, where it has just two ends.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub far_ends: Vec<(IpAddr, u8)>,
    /// Whether one of its addresses is given for a time only, as by a lease or an announcement.
    #[serde(default, skip_serializing_if = "is_not")]
    pub lent: bool,
}

/// Kinds of links that stand upon others, and may have the hardware address of one of them.
const DERIVED: [&str; 9] =
    ["bridge", "bond", "team", "vlan", "macvlan", "macvtap", "ipvlan", "ipvtap", "macsec"];
/// Kinds of links whose parts all lead to the same neighbours.
const ONE_LINK: [&str; 2] = ["bond", "team"];

/// Lists the interfaces of the transport's network namespace, as rules have to know them.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn links_seen(transport: &mut dyn Transport) -> Result<Vec<LinkSeen>, LinuxError> {
    let links = dump(transport, "list links", route::dump_links, route::decode_link)?;
    let is = |link: &route::Link, kinds: &[&str]| {
        link.kind.as_deref().is_some_and(|it| kinds.contains(&it))
    };
    let part_of = |link: &route::Link| {
        let whole = links.iter().find(|it| Some(it.index) == link.master)?;
        Some(Whole { name: whole.name.clone(), is_one_link: is(whole, &ONE_LINK) })
    };
    let seen = links.iter().map(|link| LinkSeen {
        name: link.name.clone(),
        alternatives: link.alternatives.clone(),
        hardware: HardwareAddress::of(&link.hardware),
        permanent: HardwareAddress::of(&link.permanent),
        is_derived: is(link, &DERIVED),
        part_of: part_of(link),
    });
    Ok(seen.collect())
}

/// The numbers and names of all links of the transport's network namespace.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn numbers(transport: &mut dyn Transport) -> Result<Vec<(u32, String)>, LinuxError> {
    let links = dump(transport, "list links", route::dump_links, route::decode_link)?;
    Ok(links.into_iter().map(|it| (it.index, it.name)).collect())
}

/// Lists the links of the transport's network namespace that are switched on, without the loopback
/// one.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn links(transport: &mut dyn Transport) -> Result<Vec<Link>, LinuxError> {
    let addresses = of_links(transport)?;
    let found = dump(transport, "list links", route::dump_links, route::decode_link)?;
    let on = found.into_iter().filter(|link| link.up && !link.loopback);
    let link = |it: route::Link| {
        let its = || addresses.iter().filter(|address| address.link == it.index);
        Link {
            index: it.index,
            addresses: its().map(|it| (it.address, it.prefix)).collect(),
            far_ends: its().filter_map(|it| Some((it.far_end?, it.prefix))).collect(),
            lent: its().any(|it| it.lent && !is_of_link(it.address)),
            name: it.name,
        }
    };
    Ok(on.map(link).collect())
}

// serde hands over a reference.
#[allow(clippy::trivially_copy_pass_by_ref)]
fn is_not(it: &bool) -> bool {
    !it
}

/// Whether only its link knows an address (RFC 4291 section 2.5.6).
fn is_of_link(address: IpAddr) -> bool {
    matches!(address, IpAddr::V6(it) if it.is_unicast_link_local())
}

/// Where packets to an address go.
#[derive(Clone, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Way {
    /// Whether they end at this host, so that it can speak for the address: because a link has it, or because
    /// a route says that a whole network does.
    pub is_own: bool,
    /// The link by which they leave, and by which, where routes are the same both ways, those come in that the
    /// address sends; `None` if there is no way.
    pub link: Option<String>,
}

/// Where packets to `address` go. To an address to which there is no route at all there is no way, and it is not this
/// host's.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us ask.
pub(crate) fn way_to(transport: &mut dyn Transport, address: IpAddr) -> Result<Way, LinuxError> {
    let Some(route) = route_to(transport, address)? else { return Ok(Way::default()) };
    let doing = "name a link";
    let link = match route.link {
        None => None,
        Some(index) => {
            let any = socket(AddressFamily::INET, SocketType::DGRAM, None)
                .map_err(|source| LinuxError::system(doing, source))?;
            let name = netdevice::index_to_name(&any, index);
            Some(name.map_err(|source| LinuxError::system(doing, source))?)
        }
    };
    Ok(Way { is_own: route.is_local, link })
}

/// Lists the routing rules of the transport's network namespace that look at marks.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn mark_rules(transport: &mut dyn Transport) -> Result<Vec<MarkRule>, LinuxError> {
    let doing = "list routing rules";
    let all = dump(transport, doing, routing_rule::dump_rules, routing_rule::decode_rule)?;
    Ok(all.into_iter().flatten().collect())
}

fn route_to(transport: &mut dyn Transport, address: IpAddr) -> Result<Option<Route>, LinuxError> {
    let doing = "look up a route";
    let system = |source| LinuxError::system(doing, source);
    let sequence = transport.next_sequence();
    transport.send(&route::get_route(address, sequence)?).map_err(system)?;
    loop {
        let datagram = transport.receive().map_err(system)?;
        if let Some(answer) = split(&datagram)?.iter().find(|it| it.sequence == sequence) {
            return match answer.kind {
                ERROR => Ok(None),
                _ => Ok(Some(route::decode_route(answer.body)?)),
            };
        }
    }
}
