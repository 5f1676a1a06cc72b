//! Links, addresses and routes of the calling thread's namespace.

use crate::LinuxError;
use crate::sys::namespace::Namespace;
use crate::transport::{NetlinkSocket, Protocol, ask, ask_about, dump};
use rustix::net::{AddressFamily, SocketType, netdevice, socket};
use std::collections::BTreeSet;
use std::fs;
use std::net::IpAddr;
use std::time::{Duration, Instant};
use tipstaff_wire::gateway;
use tipstaff_wire::route::{self, Via};

/// The settings of a machine in a lab. Reverse-path filters go, so that any sender can be
/// played; addresses are usable at once; answers are not rationed, so that every refusal shows.
const SETTINGS: &[(&str, &str)] = &[
    ("ipv4/conf/all/rp_filter", "0"),
    ("ipv4/conf/default/rp_filter", "0"),
    ("ipv4/conf/all/send_redirects", "0"),
    ("ipv4/conf/default/send_redirects", "0"),
    ("ipv4/icmp_ratelimit", "0"),
    ("ipv4/icmp_ratemask", "0"),
    ("ipv6/conf/all/disable_ipv6", "0"),
    ("ipv6/conf/default/disable_ipv6", "0"),
    ("ipv6/conf/default/accept_dad", "0"),
    ("ipv6/conf/default/accept_ra", "0"),
    ("ipv6/conf/default/router_solicitations", "0"),
    ("ipv6/icmp/ratelimit", "0"),
];

/// Settings that older kernels keep for the whole machine, out of a lab's reach. There, many
/// refusals in a short time may go unanswered.
const NEWER_SETTINGS: &[(&str, &str)] =
    &[("ipv4/icmp_msgs_per_sec", "1000000"), ("ipv4/icmp_msgs_burst", "1000000")];

/// So long it may take until a link carries packets.
const PATIENCE: Duration = Duration::from_secs(30);

const FORWARDING: &[(&str, &str)] = &[("ipv4/ip_forward", "1"), ("ipv6/conf/all/forwarding", "1")];

/// Configures the calling thread's namespace.
pub(super) struct Links {
    socket: NetlinkSocket,
}

impl Links {
    pub(super) fn open() -> Result<Self, LinuxError> {
        Ok(Self { socket: NetlinkSocket::open(Protocol::Route)? })
    }

    /// Writes the settings of a machine, and switches its loopback link on.
    pub(super) fn prepare(&mut self, forwards: bool) -> Result<(), LinuxError> {
        let more = if forwards { FORWARDING } else { &[] };
        for (name, value) in SETTINGS.iter().chain(more) {
            let path = format!("/proc/sys/net/{name}");
            fs::write(&path, value)
                .map_err(|source| LinuxError::system(format!("write {path} in a lab"), source))?;
        }
        for (name, value) in NEWER_SETTINGS {
            let _ = fs::write(format!("/proc/sys/net/{name}"), value);
        }
        let loopback = index("lo")?;
        self.up("lo", loopback, None)
    }

    /// Makes a namespace that sends nothing by itself.
    pub(super) fn silence(&mut self) -> Result<(), LinuxError> {
        for scope in ["all", "default"] {
            let path = format!("/proc/sys/net/ipv6/conf/{scope}/disable_ipv6");
            fs::write(&path, "1")
                .map_err(|source| LinuxError::system(format!("write {path} in a lab"), source))?;
        }
        Ok(())
    }

    pub(super) fn bridge(&mut self, name: &str) -> Result<u32, LinuxError> {
        ask(&mut self.socket, "make a bridge in a lab", |n| route::new_bridge(name, n))?;
        let made = index(name)?;
        self.up(name, made, None)?;
        Ok(made)
    }

    /// Makes a pair of links, the far end in `fabric`; the near end gets that number if one is given.
    pub(super) fn pair(
        &mut self,
        name: &str,
        number: Option<u32>,
        hardware_address: [u8; 6],
        peer: &str,
        fabric: &Namespace,
    ) -> Result<(), LinuxError> {
        let fabric = u32::try_from(fabric.raw()).unwrap_or(u32::MAX);
        let doing = format!("make the link {name} in a lab");
        let near = route::NearEnd { name, number, hardware_address };
        ask(&mut self.socket, &doing, |n| route::new_pair(&near, peer, fabric, n))
    }

    pub(super) fn up(
        &mut self,
        name: &str,
        link: u32,
        bridge: Option<u32>,
    ) -> Result<(), LinuxError> {
        let doing = format!("switch on the link {name} in a lab");
        ask(&mut self.socket, &doing, |n| route::link_up(link, bridge, n))
    }

    /// Waits until all links that are switched on carry packets, and those for their addresses are taken in. The kernel
    /// gets round to that a little later than it says that they are on and set, on a busy machine by seconds; until
    /// then it loses what is sent, or takes it as meant for somebody else.
    pub(super) fn ready(&mut self) -> Result<(), LinuxError> {
        let begun = Instant::now();
        loop {
            let Some(waits) = self.awaited()? else { return Ok(()) };
            if begun.elapsed() > PATIENCE {
                return Err(LinuxError::Refused {
                    doing: format!("bring up {waits} in a lab"),
                    reason: format!("it takes in nothing after {} s", PATIENCE.as_secs()).into(),
                });
            }
            std::thread::sleep(Duration::from_millis(1));
        }
    }

    /// What is not ready yet.
    fn awaited(&mut self) -> Result<Option<String>, LinuxError> {
        let doing = "list links in a lab";
        let links = dump(&mut self.socket, doing, route::dump_links, route::decode_link)?;
        let used: Vec<_> = links.iter().filter(|it| it.up && !it.loopback).collect();
        if let Some(waits) = used.iter().find(|it| !it.carries) {
            return Ok(Some(format!("the link {}", waits.name)));
        }
        let doing = "list addresses in a lab";
        let addresses = dump(&mut self.socket, doing, route::dump_addresses, route::decode_address);
        let mut addresses = addresses?;
        addresses.retain(|it| used.iter().any(|link| link.index == it.link));
        if addresses.is_empty() {
            return Ok(None);
        }
        let doing = "list routes in a lab";
        let own = dump(&mut self.socket, doing, gateway::dump_routes, gateway::decode_own)?;
        let own: BTreeSet<_> = own.into_iter().flatten().collect();
        let waits = addresses.iter().find(|it| !own.contains(&it.address));
        Ok(waits.map(|it| format!("the address {}", it.address)))
    }

    /// Gives a link an address; it may have it already, such as its own link-local one.
    pub(super) fn address(&mut self, link: u32, address: (IpAddr, u8)) -> Result<(), LinuxError> {
        let doing = format!("set the address {}/{} in a lab", address.0, address.1);
        let request = |n| route::new_address(link, address.0, address.1, n);
        ask_about(&mut self.socket, &doing, &[libc::EEXIST], request).map(drop)
    }

    pub(super) fn route(&mut self, network: (IpAddr, u8), via: Via) -> Result<(), LinuxError> {
        let doing = format!("set a route to {}/{} in a lab", network.0, network.1);
        ask(&mut self.socket, &doing, |n| route::new_route(network.0, network.1, via, n))
    }
}

/// The number of a link.
pub(super) fn index(name: &str) -> Result<u32, LinuxError> {
    let doing = || format!("find the link {name}");
    let any = socket(AddressFamily::INET, SocketType::DGRAM, None)
        .map_err(|source| LinuxError::system(doing(), source))?;
    netdevice::name_to_index(&any, name).map_err(|source| LinuxError::system(doing(), source))
}

/// A locally administered address, different for each link of a lab.
pub(super) fn hardware_address(at: usize) -> [u8; 6] {
    let [.., high, low] = at.to_be_bytes();
    [0x02, 0, 0, 0, high, low]
}
