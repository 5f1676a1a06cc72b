//! Nothing leaves but through the tunnel, seen on the outer link, whatever becomes of the tunnel.

use crate::world::netfilter;
use rustix::net::{
    AddressFamily, RecvFlags, SocketFlags, SocketType, netdevice, recv, socket_with, sockopt,
};
use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::net::{IpAddr, Ipv4Addr, TcpListener, TcpStream, UdpSocket};
use std::num::NonZeroU32;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::{JoinHandle, sleep, spawn};
use std::time::Duration;
use tipstaff_core::draft::{Facts, Link, Tunnel, draft};
use tipstaff_core::generate::Generator;
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::policy::{Source, Time, read};
use tipstaff_core::program::lower;
use tipstaff_core::space::{Direction, Transport};
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::changing::{Way, gain, lose, remove, route, switch, tunnel};
use tipstaff_linux::lab::testing::{Flood, address, sealed, street_sluice_granary};
use tipstaff_linux::probe::first_packet;
use tipstaff_linux::ruleset::enforce;
use tipstaff_wire::packet::{Payload, build};

const FAR_END: Ipv4Addr = Ipv4Addr::new(198, 51, 100, 99);
const NEAR_END: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 10);
const PORT: u16 = 4789;
/// So many crafted packets, all different.
const CRAFTED: usize = 5_000;
/// They are sent so often in each situation.
const TIMES: usize = 4;

/// What a laptop's draft says, in its posture.
fn sealed_plan() -> HostPlan {
    let link = |name: &str, addresses: &[(&str, u8)]| Link {
        name: name.into(),
        addresses: addresses.iter().map(|(it, prefix)| (address(it), *prefix)).collect(),
        lent: true,
    };
    let text = draft(&Facts {
        host: "sluice".into(),
        links: vec![link("eth0", &[("192.0.2.10", 24)]), link("tun0", &[("10.99.0.1", 24)])],
        tunnel: Some(Tunnel {
            link: "tun0".into(),
            endpoints: vec![(FAR_END.into(), format!("{PORT}/udp"))],
        }),
        ..Facts::default()
    });
    let policy =
        read(&Source::new("policy.toml", &text)).unwrap_or_else(|it| panic!("{it:#?}\n{text}"));
    let policy = policy.in_posture("sluice", "sealed").expect("a posture");
    let mut plan = resolve(&policy, "sluice", Time::from_seconds(0)).expect("the host");
    let own = [("192.0.2.10", 24), ("2001:db8:2::10", 64), ("10.99.0.1", 24), ("fd99::1", 64)];
    plan.at_the_moment(&own.map(|(it, prefix)| (address(it), prefix)), &[]);
    plan
}

/// What comes over the outer link, as the neighbour there sees it.
struct Wire {
    stop: Arc<AtomicBool>,
    reader: JoinHandle<Seen>,
}

/// What was seen of one machine.
#[derive(Debug, Default)]
struct Seen {
    /// Packets of the tunnel.
    tunnelled: usize,
    /// What asks for addresses and neighbours.
    of_the_link: usize,
    /// All else, by what it is.
    leaked: BTreeMap<String, usize>,
}

impl Wire {
    /// Begins to look at what the machine with this hardware address sends.
    fn watch(neighbour: &Node, hardware: [u8; 6]) -> Self {
        let open = || -> rustix::io::Result<OwnedFd> {
            // ETH_P_ALL (linux/if_ether.h), in the order of the network.
            let all = NonZeroU32::new(u32::from(3u16.to_be())).map(rustix::net::Protocol::from_raw);
            let socket =
                socket_with(AddressFamily::PACKET, SocketType::RAW, SocketFlags::CLOEXEC, all)?;
            sockopt::set_socket_recv_buffer_size_force(&socket, 64 << 20)
                .or_else(|_| sockopt::set_socket_recv_buffer_size(&socket, 8 << 20))?;
            sockopt::set_socket_timeout(
                &socket,
                sockopt::Timeout::Recv,
                Some(Duration::from_millis(50)),
            )?;
            netdevice::name_to_index(&socket, "eth0")?;
            Ok(socket)
        };
        let socket = neighbour.run(open).expect("entered").expect("a raw socket");
        let stop = Arc::new(AtomicBool::new(false));
        let stopped = Arc::clone(&stop);
        let reader = spawn(move || {
            let mut seen = Seen::default();
            let mut frame = [0; 2048];
            loop {
                match recv(&socket, &mut frame[..], RecvFlags::empty()) {
                    Ok((length, _)) if length >= 14 && frame[6..12] == hardware => {
                        seen.note(&frame[12..length]);
                    }
                    Err(_) if stopped.load(Ordering::Relaxed) => return seen,
                    _ => {}
                }
            }
        });
        Self { stop, reader }
    }

    fn end(self) -> Seen {
        self.stop.store(true, Ordering::Relaxed);
        self.reader.join().expect("it looked")
    }
}

impl Seen {
    /// Takes note of a frame from its EtherType on. The addresses and ports of who asks for an address, and for
    /// neighbours, are those of RFC 2131, 8415, 826, 4861, 2710, 3810 and 3376.
    fn note(&mut self, frame: &[u8]) {
        let kind = u16::from_be_bytes([frame[0], frame[1]]);
        let packet = &frame[2..];
        let of = |at: usize| packet.get(at).copied().unwrap_or(0);
        let port = |at: usize| u16::from_be_bytes([of(at), of(at + 1)]);
        let v4 = (of(9), usize::from(of(0) & 15) * 4, port(6) & 0x1fff);
        let (protocol, body, first) = match kind {
            0x0800 => (v4.0, v4.1, v4.2 == 0),
            // Multicast listeners are told with an option for routers ahead (RFC 2711).
            0x86dd if of(6) == 0 => (of(40), 40 + 8 + usize::from(of(41)) * 8, true),
            0x86dd => (of(6), 40, true),
            0x0806 => {
                self.of_the_link += 1;
                return;
            }
            _ => (255, 0, true),
        };
        let to_far_end = kind == 0x0800 && packet.get(16..20) == Some(&FAR_END.octets()[..]);
        let ends = (port(body), port(body + 2));
        let is_link = match (kind, protocol) {
            (0x86dd, 58) => matches!(of(body), 130..=132 | 133..=136 | 143),
            (0x0800, 2) => of(16) & 0xf0 == 224,
            (0x0800, 17) => ends == (68, 67),
            (0x86dd, 17) => ends == (546, 547),
            _ => false,
        };
        if to_far_end && protocol == 17 && ends.1 == PORT && first {
            self.tunnelled += 1;
        } else if is_link && first {
            self.of_the_link += 1;
        } else {
            let what = format!("{kind:04x} protocol {protocol}, {} to {}", ends.0, ends.1);
            *self.leaked.entry(what).or_default() += 1;
        }
    }
}

/// Packets of every kind, from a seed.
fn crafted(generator: &mut Generator, plan: &HostPlan) -> Vec<(IpAddr, Vec<u8>)> {
    let mut packets = Vec::with_capacity(CRAFTED);
    while packets.len() < CRAFTED {
        let packet = generator.packet_for(plan);
        if packet.direction != Direction::Outbound
            || packet.source.is_ipv4() != packet.destination.is_ipv4()
        {
            continue;
        }
        let payload = match packet.transport {
            Transport::Ports { protocol, source, destination } => {
                first_packet(protocol, source, destination)
            }
            Transport::Icmp { kind } => Payload::Icmp { kind },
            Transport::Other { protocol } => Payload::Other { protocol },
        };
        let tag = u32::try_from(packets.len()).expect("small");
        packets.push((packet.destination, build(packet.source, packet.destination, payload, tag)));
    }
    packets
}

/// What programs do: they ask for names, connect, and speak on connections that stand.
fn programs(host: &Node, standing: &mut TcpStream) {
    let _ = standing.write_all(b"said on a connection that stands\n");
    let work = || {
        for name_server in
            ["192.0.2.1:53", "203.0.113.9:53", "[2001:db8:2::1]:53", "[2001:db8:bad::9]:853"]
        {
            let any = if name_server.starts_with('[') { "[::]:0" } else { "0.0.0.0:0" };
            let socket = UdpSocket::bind(any).expect("bound");
            let _ = socket.send_to(b"where is it?", name_server);
            let to = name_server.parse().expect("an address");
            let _ = TcpStream::connect_timeout(&to, Duration::from_millis(20));
        }
    };
    host.run(work).expect("entered");
}

/// The far end of the tunnel, and this one, with its addresses and routes.
fn build_tunnel(host: &Node) -> bool {
    let work = || {
        if !tunnel("tun0", NEAR_END, FAR_END, PORT) {
            return false;
        }
        gain("tun0", address("10.99.0.1"), 24);
        gain("tun0", address("fd99::1"), 64);
        // Two halves beat the way that all else has by default, which is there again without them.
        let gateways = ["10.99.0.99", "fd99::99"];
        for (half, gateway) in [("0.0.0.0", 0), ("128.0.0.0", 0), ("::", 1), ("8000::", 1)] {
            route(address(half), 1, &Way::Gateway(address(gateways[gateway])));
        }
        true
    };
    host.run(work).expect("entered")
}

/// The tunnel, from end to end; `false` if this kernel has none.
fn both_ends(host: &Node, street: &Node) -> bool {
    let there = street.run(|| {
        let made = tunnel("tun0", FAR_END, NEAR_END, PORT);
        if made {
            gain("tun0", address("10.99.0.99"), 24);
            gain("tun0", address("fd99::99"), 64);
        }
        made
    });
    if !there.expect("entered") {
        return false;
    }
    assert!(build_tunnel(host));
    let way = || route(FAR_END.into(), 32, &Way::Gateway(address("192.0.2.1")));
    host.run(way).expect("entered");
    true
}

/// A connection through the tunnel, and its far end.
fn connection_within(host: &Node, street: &Node) -> (TcpStream, TcpStream) {
    let server =
        street.run(|| TcpListener::bind("10.99.0.99:5432")).expect("entered").expect("bound");
    let client = host.run(|| TcpStream::connect("10.99.0.99:5432")).expect("entered");
    let mut standing = client.expect("through the tunnel");
    let (mut served, _) = server.accept().expect("accepted");
    standing.write_all(b"in").expect("sent");
    served.read_exact(&mut [0; 2]).expect("it comes through the tunnel");
    (standing, served)
}

#[test]
fn nothing_leaves_but_through_the_tunnel() {
    sealed("leaking::nothing_leaves_but_through_the_tunnel", || {
        let lab = street_sluice_granary();
        let (host, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        if !both_ends(host, street) {
            println!("NOT RUN: this kernel has no tunnels (vxlan)");
            assert!(std::env::var_os("CI").is_none(), "that would be a check that did not happen");
            return;
        }
        let plan = sealed_plan();
        let program = lower(&plan);
        let put = |program: &tipstaff_core::program::RuleProgram| {
            host.run(|| enforce(&mut netfilter(), "sluice", program).map(drop))
                .expect("entered")
                .expect("enforced");
        };
        put(&program);
        let (mut standing, _served) = connection_within(host, street);
        let flood = Flood::open(host);
        let hardware = host.hardware_address("eth0").expect("known");
        let packets = crafted(&mut Generator::new(99), &plan);
        let mut sent = 0;
        let mut tunnelled = 0;
        let mut phase = |what: &str, passes: bool, change: &mut dyn FnMut()| {
            let wire = Wire::watch(street, hardware);
            for time in 0..TIMES {
                if time == TIMES / 2 {
                    change();
                }
                sent += flood.send_what_can_be(&packets);
            }
            programs(host, &mut standing);
            // Also what is said again since nobody answered.
            sleep(Duration::from_millis(700));
            let seen = wire.end();
            assert!(seen.leaked.is_empty(), "{what}: {seen:?}");
            assert!(!passes || seen.tunnelled > 1_000, "{what}: {seen:?}");
            tunnelled += seen.tunnelled;
        };
        let on = |work: &(dyn Fn() + Sync)| host.run(work).expect("entered");
        phase("the tunnel is up", true, &mut || {});
        phase("it goes down", true, &mut || on(&|| switch("tun0", false)));
        phase("it is down", false, &mut || {});
        phase("it is taken away", false, &mut || on(&|| remove("tun0")));
        phase("it is gone", false, &mut || {});
        // Its address stays on another link: what was said through it could go by that one.
        phase("its address is elsewhere", false, &mut || {
            on(&|| gain("eth0", address("10.99.0.1"), 24));
        });
        phase("the address changes", false, &mut || {
            on(&|| {
                lose("eth0", address("10.99.0.1"), 24);
                gain("eth0", address("192.0.2.11"), 24);
            });
        });
        phase("it is made again", true, &mut || assert!(build_tunnel(host)));
        phase("a route leads past it", true, &mut || {
            on(&|| route(address("203.0.113.0"), 24, &Way::Gateway(address("192.0.2.1"))));
        });
        // The rules are put in force again, in one batch, while all goes on.
        phase("the rules are loaded anew", true, &mut || put(&program));
        // What no way was found for, such as to addresses of no use, was never sent.
        assert!(sent >= 190_000, "{sent} were sent");
        println!("{sent} packets were sent, {tunnelled} left through the tunnel, and nothing else");

        // The capture sees what leaks: without the posture there is something.
        let wire = Wire::watch(street, hardware);
        host.run(|| tipstaff_linux::ruleset::release(&mut netfilter()).map(drop))
            .expect("entered")
            .expect("gone");
        programs(host, &mut standing);
        sleep(Duration::from_millis(300));
        assert!(!wire.end().leaked.is_empty());
    });
}
