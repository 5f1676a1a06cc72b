//! A small lab: a host between an outside and an inside network.

use std::net::IpAddr;
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Source, read};
use tipstaff_linux::lab::{Interface, Lab, Machine, Route, Topology};
use tipstaff_linux::{NetlinkSocket, Protocol};

pub fn address(text: &str) -> IpAddr {
    text.parse().expect("an address")
}

fn link(name: &str, segment: &str, addresses: &[(&str, u8)]) -> Interface {
    let addresses = addresses.iter().map(|&(text, prefix)| (address(text), prefix)).collect();
    Interface { name: name.into(), segment: segment.into(), addresses }
}

fn by_default(gateways: [&str; 2]) -> Vec<Route> {
    let everything = ["0.0.0.0", "::"].map(|it| (address(it), 0));
    let routes = everything.into_iter().zip(gateways);
    routes.map(|(network, gateway)| Route { network, gateway: address(gateway) }).collect()
}

/// `street` (outside, speaks for everybody) – `sluice` – `granary` (inside).
pub fn lab() -> Lab {
    let topology = Topology {
        machines: vec![
            Machine {
                name: "sluice".into(),
                interfaces: vec![
                    link("eth0", "outside", &[("192.0.2.10", 24), ("2001:db8:2::10", 64)]),
                    link("eth1", "stacks", &[("10.44.8.10", 24), ("fd44:8::10", 64)]),
                ],
                routes: by_default(["192.0.2.1", "2001:db8:2::1"]),
                forwards: true,
                ..Machine::default()
            },
            Machine {
                name: "street".into(),
                interfaces: vec![link(
                    "eth0",
                    "outside",
                    &[("192.0.2.1", 24), ("2001:db8:2::1", 64)],
                )],
                routes: by_default(["192.0.2.10", "2001:db8:2::10"]),
                speaks_for: vec![
                    (address("198.51.100.0"), 24),
                    (address("203.0.113.0"), 24),
                    (address("2001:db8:51::"), 64),
                    (address("2001:db8:bad::"), 64),
                ],
                ..Machine::default()
            },
            Machine {
                name: "granary".into(),
                interfaces: vec![link("eth0", "stacks", &[("10.44.8.20", 24), ("fd44:8::20", 64)])],
                routes: by_default(["10.44.8.10", "fd44:8::10"]),
                ..Machine::default()
            },
        ],
    };
    Lab::build(&topology).expect("the lab is built")
}

pub fn plan(text: &str) -> HostPlan {
    let policy = read(&Source::new("policy.toml", text))
        .unwrap_or_else(|problems| panic!("{problems:#?}\n{text}"));
    resolve(&policy, "sluice").expect("the host is there")
}

pub fn netfilter() -> NetlinkSocket {
    NetlinkSocket::open(Protocol::Netfilter).expect("a netlink socket")
}
