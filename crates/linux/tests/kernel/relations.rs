//! What the kernel takes for one of the host's own addresses.

use crate::world::netfilter;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, SocketAddrV6, UdpSocket};
use std::time::Duration;
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, Time, read};
use tipstaff_core::program::lower;
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::ruleset::enforce;
use tipstaff_linux::{Here, Machine};

const POLICY: &str = r#"
edition = 1
[host.sluice]
[[host.sluice.rule]]
name = "to-itself"
allow = ["1000/udp"]
to = ["this-host"]
[[host.sluice.rule]]
name = "to-many"
allow = ["2000/udp"]
to = ["!this-host"]
[[host.sluice.rule]]
name = "from-itself"
deny = ["3000/udp"]
from = ["this-host"]
direction = "outbound"
"#;

const GROUP: Ipv6Addr = Ipv6Addr::new(0xff02, 0, 0, 0, 0, 0, 0, 0x77);
const GROUP_V4: Ipv4Addr = Ipv4Addr::new(224, 0, 0, 77);

/// The link-local address of a machine's `eth0`, and the number of that link.
fn link_local(node: &Node) -> (Ipv6Addr, u32) {
    let links = node.run(|| Here.links()).expect("entered").expect("links");
    let link = links.iter().find(|it| it.name == "eth0").expect("eth0");
    let address = link.addresses.iter().find_map(|it| match it.0 {
        IpAddr::V6(it) if it.is_unicast_link_local() => Some(it),
        _ => None,
    });
    (address.expect("a link-local address"), link.index)
}

fn receiver(host: &Node, port: u16, link: u32) -> UdpSocket {
    let open = || {
        let socket = UdpSocket::bind(("::", port)).expect("a port");
        socket.join_multicast_v6(&GROUP, link).expect("a group");
        socket.set_read_timeout(Some(Duration::from_millis(400))).expect("a time");
        socket
    };
    host.run(open).expect("entered")
}

fn hears(socket: &UdpSocket) -> bool {
    socket.recv(&mut [0; 64]).is_ok()
}

/// Link-local addresses are the host's own like all others, in both directions; what is for many, a group or
/// everybody on the link, is for none of them.
#[test]
fn its_own_are_all_its_addresses_and_nothing_that_is_for_many() {
    sealed("relations::its_own_are_all_its_addresses_and_nothing_that_is_for_many", || {
        let lab = street_sluice_granary();
        let (host, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let policy = read(&Source::new("policy.toml", POLICY)).expect("a policy");
        let plan = resolve(&policy, "sluice", Time::from_seconds(0)).expect("the host");
        host.run(|| enforce(&mut netfilter(), "sluice", &lower(&plan)))
            .expect("entered")
            .expect("enforced");
        let ((own, link), (_, street_link)) = (link_local(host), link_local(street));
        let own_v4 = SocketAddr::from(([192, 0, 2, 10], 0));
        let send = |to: SocketAddr| {
            let any = if to.is_ipv4() { "0.0.0.0:0" } else { "[::]:0" };
            let send = || {
                let socket = UdpSocket::bind(any).expect("a port");
                socket.set_broadcast(to.is_ipv4()).and_then(|()| socket.send_to(b"?", to))
            };
            street.run(send).expect("entered").expect("sent");
        };
        let v6 = |address, port| SocketAddrV6::new(address, port, 0, street_link).into();
        for (port, to_itself) in [(1000, true), (2000, false)] {
            let socket = receiver(host, port, link);
            socket.join_multicast_v4(&GROUP_V4, &Ipv4Addr::new(192, 0, 2, 10)).ok();
            for (to, single) in [
                (v6(own, port), true),
                (SocketAddr::new(own_v4.ip(), port), true),
                ("[2001:db8:2::10]:0".parse::<SocketAddr>().expect("it"), true),
                (v6(GROUP, port), false),
            ] {
                let to = SocketAddr::new(to.ip(), port);
                let to = if to.ip() == IpAddr::V6(own) { v6(own, port) } else { to };
                let to = if to.ip() == IpAddr::V6(GROUP) { v6(GROUP, port) } else { to };
                send(to);
                assert_eq!(hears(&socket), single == to_itself, "{to}");
            }
            // Everybody on the link, in IPv4.
            let everybody = host.run(|| {
                let socket = UdpSocket::bind(("0.0.0.0", port + 1)).expect("a port");
                socket.set_read_timeout(Some(Duration::from_millis(100))).expect("a time");
                socket
            });
            drop(everybody);
            send(SocketAddr::from(([192, 0, 2, 255], port)));
            assert_eq!(hears(&socket), !to_itself, "the broadcast of the network");
        }
        // What the host sends has one of its own addresses, whichever that is.
        let (there, _) = link_local(street);
        for (from, to) in [
            (SocketAddr::from(SocketAddrV6::new(own, 0, 0, link)), v6(there, 3000)),
            (own_v4, SocketAddr::from(([192, 0, 2, 1], 3000))),
            (
                "[2001:db8:2::10]:0".parse().expect("it"),
                "[2001:db8:2::1]:3000".parse().expect("it"),
            ),
        ] {
            let to = match to {
                SocketAddr::V6(it) if it.ip().is_unicast_link_local() => {
                    SocketAddr::from(SocketAddrV6::new(*it.ip(), it.port(), 0, link))
                }
                other => other,
            };
            let sent = host.run(|| UdpSocket::bind(from).expect("a port").send_to(b"!", to));
            let refused = sent.expect("entered").expect_err("denied");
            assert_eq!(refused.raw_os_error(), Some(1), "{from} to {to}: {refused}");
        }
    });
}
