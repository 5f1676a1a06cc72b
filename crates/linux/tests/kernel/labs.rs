//! Labs: machines that reach each other as their topology says.

use std::net::{IpAddr, SocketAddr};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;
use tipstaff_linux::lab::testing::{address, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Interface, Lab, Machine, Node, Route, Stage, StageLink, Topology};
use tipstaff_linux::probe::{Attempt, State, attempt};
use tipstaff_linux::sockets::PortProtocol;
use tipstaff_linux::{Here, Machine as _};

fn check(node: &Node, source: Option<&str>, to: &str, port: u16) -> State {
    let destination = SocketAddr::new(address(to), port);
    let source = source.map(address);
    let patience = Duration::from_millis(500);
    let check = Attempt { protocol: PortProtocol::Tcp, source, destination, patience };
    node.run(|| attempt(&check)).expect("entered").expect("made").state
}

#[test]
fn neighbours_routes_and_borrowed_senders_work_at_once() {
    sealed("labs::neighbours_routes_and_borrowed_senders_work_at_once", || {
        let lab = street_sluice_granary();
        let node = |name| lab.node(name).expect("there");
        let listen = || std::net::TcpListener::bind("[::]:443").expect("bound");
        let _sluice = node("sluice").run(listen).expect("entered");
        let _granary = node("granary").run(listen).expect("entered");
        let street = node("street");
        for (from, to) in [
            ("192.0.2.1", "192.0.2.10"),
            ("198.51.100.31", "192.0.2.10"),
            ("203.0.113.200", "10.44.8.20"),
            ("2001:db8:2::1", "2001:db8:2::10"),
            ("2001:db8:51::abcd", "2001:db8:2::10"),
            ("2001:db8:bad::77", "fd44:8::20"),
        ] {
            assert_eq!(check(street, Some(from), to, 443), State::Open, "{from} to {to}");
            assert_eq!(check(street, Some(from), to, 444), State::Refused, "{from} to {to}");
        }
        assert_eq!(check(node("granary"), None, "203.0.113.9", 80), State::Refused);
    });
}

#[test]
fn a_host_knows_which_addresses_are_its_own() {
    sealed("labs::a_host_knows_which_addresses_are_its_own", || {
        let lab = street_sluice_granary();
        lab.node("street")
            .expect("there")
            .run(|| {
                let own = Here.addresses().expect("listed");
                assert!(
                    own.contains(&address("192.0.2.1")) && own.contains(&address("2001:db8:2::1"))
                );
                for (text, expected) in [
                    ("192.0.2.1", true),
                    ("198.51.100.77", true),
                    ("2001:db8:bad::1234", true),
                    ("192.0.2.10", false),
                    ("10.44.8.20", false),
                    ("fd44:8::20", false),
                ] {
                    let way = Here.way_to(address(text)).expect("asked");
                    assert_eq!(way.is_own, expected, "{text}");
                }
            })
            .expect("entered");
    });
}

/// The kernel lets packets come to an IPv6 address only once it got round to that, some time after it was set; until
/// then they are as if for somebody else.
#[test]
fn every_address_of_a_stage_is_its_own_from_the_start() {
    sealed("labs::every_address_of_a_stage_is_its_own_from_the_start", || {
        let links = |addresses: u16| {
            let address = |at| (IpAddr::from([0x2001, 0xdb8, 2, 0, 0, 0, 0, at]), 64);
            let addresses = (1..=addresses).map(address).collect();
            [StageLink { name: "eth0".into(), index: None, addresses }]
        };
        let done = AtomicBool::new(false);
        let build = |addresses| Stage::build("sluice", &links(addresses), true).expect("built");
        std::thread::scope(|scope| {
            // Others who keep the kernel busy with links and addresses.
            for _ in 0..4 {
                scope.spawn(|| {
                    while !done.load(Ordering::Relaxed) {
                        build(50);
                    }
                });
            }
            let late = (0..20).filter(|_| {
                let own = || Here.way_to(address("2001:db8:2::20")).expect("asked").is_own;
                !build(0x20).host().run(own).expect("entered")
            });
            let late = late.count();
            done.store(true, Ordering::Relaxed);
            assert_eq!(late, 0);
        });
    });
}

#[test]
fn an_impossible_topology_is_refused_in_words() {
    let topology = Topology {
        machines: vec![Machine {
            name: "bench".into(),
            interfaces: vec![Interface {
                name: "eth0".into(),
                segment: "stacks".into(),
                addresses: vec![(address("10.44.8.30"), 24)],
            }],
            routes: vec![Route { network: (address("::"), 0), gateway: address("fd44:8::10") }],
            ..Machine::default()
        }],
    };
    let error = Lab::build(&topology).expect_err("refused").to_string();
    assert!(error.contains("no link to the gateway fd44:8::10"), "{error}");
}
