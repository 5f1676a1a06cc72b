//! The far end of a tunnel.

use crate::Failure;
use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};
use tipstaff_core::draft::Tunnel;
use tipstaff_core::policy::{Policy, Source, is_interface_name, read_traffic};
use tipstaff_core::space::{TCP, UDP};
use tipstaff_linux::{LinuxError, Machine};

/// The tunnel behind an interface: with the far end that is named; else with all that this machine speaks to by
/// another way than the tunnel, though not on a link, while others would be spoken to through it.
///
/// # Errors
/// [`Failure`] if no far end is named or found, or the machine cannot be looked at.
pub(super) fn tunnel(
    machine: &dyn Machine,
    link: &str,
    named: Option<(IpAddr, &str)>,
) -> Result<Tunnel, Failure> {
    if !is_interface_name(link) {
        return Err(Failure::usage(
            format!("`{}` cannot name an interface", link.escape_debug()),
            "a name has 1 to 15 letters, no space, no slash",
        ));
    }
    if let Some((address, traffic)) = named {
        let source = Source::new("--endpoint", traffic);
        read_traffic(&Policy::default(), &source)
            .map_err(|problems| Failure::Input { sources: vec![source], problems })?;
        return Ok(Tunnel {
            link: link.to_owned(),
            endpoints: vec![(address, traffic.to_owned())],
        });
    }
    let found = endpoints(machine, link)?;
    if found.is_empty() {
        return Err(Failure::usage(
            format!("what is at the far end of {} cannot be told", link.escape_debug()),
            "--endpoint 198.51.100.99 51820/udp names it; it can be found while the tunnel is up and others \
             are reached through it",
        ));
    }
    let term = |(it, protocol): (SocketAddr, &'static str)| {
        (it.ip().to_canonical(), format!("{}/{protocol}", it.port()))
    };
    Ok(Tunnel { link: link.to_owned(), endpoints: found.into_iter().map(term).collect() })
}

/// With whom this machine speaks beside the tunnel.
fn endpoints(
    machine: &dyn Machine,
    link: &str,
) -> Result<BTreeSet<(SocketAddr, &'static str)>, LinuxError> {
    let links = machine.links()?;
    let own = |it: IpAddr| links.iter().flat_map(|it| &it.addresses).any(|(own, _)| *own == it);
    let on_link = |it: IpAddr| {
        let all = links.iter().flat_map(|it| it.addresses.iter().chain(&it.far_ends));
        all.into_iter().any(|(own, prefix)| same_network(*own, it, *prefix))
    };
    let mut peers: BTreeSet<(SocketAddr, &'static str)> = BTreeSet::new();
    for it in machine.open_connections()?.found {
        peers.insert((it.peer, it.protocol.as_str()));
    }
    // What the kernel sends by itself has no socket that it tells of. Who keeps track of nothing has no flows.
    for flow in machine.flows().unwrap_or_default() {
        let protocol = match flow.protocol {
            TCP => "tcp",
            UDP => "udp",
            _ => continue,
        };
        if let Some((_, port)) = flow.ports.filter(|_| own(flow.source)) {
            peers.insert((SocketAddr::new(flow.destination, port), protocol));
        }
    }
    let mut found = BTreeSet::new();
    for (peer, protocol) in peers {
        let address = peer.ip().to_canonical();
        if address.is_loopback() || own(address) || on_link(address) {
            continue;
        }
        let way = machine.way_to(address)?;
        let beside = way.link.is_some_and(|it| it != link);
        // Where all else goes by the same way, it says nothing about a tunnel.
        if beside && neighbour_goes_by(machine, address, link)? {
            found.insert((SocketAddr::new(address, peer.port()), protocol));
        }
    }
    Ok(found)
}

/// Whether an address near this one is reached by a link. The nearest may be a far end, too.
fn neighbour_goes_by(
    machine: &dyn Machine,
    address: IpAddr,
    link: &str,
) -> Result<bool, LinuxError> {
    for distance in [1, 2, 4, 8] {
        let neighbour = match address {
            IpAddr::V4(it) => IpAddr::V4((it.to_bits() ^ distance).into()),
            IpAddr::V6(it) => IpAddr::V6((it.to_bits() ^ u128::from(distance)).into()),
        };
        if machine.way_to(neighbour)?.link.as_deref() == Some(link) {
            return Ok(true);
        }
    }
    Ok(false)
}

fn same_network(one: IpAddr, other: IpAddr, prefix: u8) -> bool {
    let bits = |it: IpAddr| match it {
        IpAddr::V4(it) => (32u32, u128::from(it.to_bits())),
        IpAddr::V6(it) => (128u32, it.to_bits()),
    };
    let ((length, one), (other_length, other)) = (bits(one), bits(other));
    let host = length - u32::from(prefix).min(length);
    length == other_length
        && one.checked_shr(host).unwrap_or(0) == other.checked_shr(host).unwrap_or(0)
}
