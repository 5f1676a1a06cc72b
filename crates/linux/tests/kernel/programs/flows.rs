//! Flows and connections, and ports that several programs have, at once or one after the other.

use super::town::{ADDRESSES, HOST, World, any, cut_all, enforce, policy, server, with_world};
use crate::actor::Actor;
use crate::world::netfilter;
use std::net::{SocketAddr, UdpSocket};
use std::path::Path;
use std::time::Duration;
use tipstaff_linux::lab::testing::address;
use tipstaff_linux::programs;
use tipstaff_linux::ruleset::release;
use tipstaff_linux::sockets::PortProtocol;

#[test]
fn whoever_shares_the_named_programs_port_is_not_reached() {
    with_world("flows::whoever_shares_the_named_programs_port_is_not_reached", |world| {
        let seedbase = world.shelf.program("seedbase");
        let impostor = world.shelf.program("impostor");
        world.run(|| enforce(&policy(&seedbase)));
        for (family, host) in [("4", "192.0.2.10"), ("6", "2001:db8:2::10")] {
            let share = |program| {
                let mut actor = Actor::start(world.sluice(), program);
                actor.tell(&format!("make udp {family}"));
                actor.tell("share");
                actor.tell(&format!("bind {}", any(family)));
                actor
            };
            let mut named = share(&seedbase);
            named.tell("echo");
            let mut other = share(&impostor);
            let street = world.lab.node("street").expect("it");
            let free = if family == "4" { "0.0.0.0:0" } else { "[::]:0" };
            // The kernel spreads senders over both: about half meet the impostor's socket.
            let mut answered = 0;
            for _ in 0..40 {
                let client = street.run(|| UdpSocket::bind(free)).expect("run").expect("a port");
                client.set_read_timeout(Some(Duration::from_millis(100))).expect("a time");
                client.connect(SocketAddr::new(address(host), 5432)).expect("connected");
                client.send(b"seed").expect("sent");
                answered += usize::from(client.recv(&mut [0; 64]).is_ok());
            }
            assert!(
                (1..40).contains(&answered),
                "{family}: {answered} of 40 met the named program"
            );
            assert_ne!(other.ask("hear"), "heard", "{family}: none met the other");
        }
    });
}

/// Whether somebody on the street can connect to the sluice's port, always from the same port of
/// theirs; the stream, if so.
fn connects_again(world: &World, destination: &str) -> Option<std::net::TcpStream> {
    use rustix::net::{AddressFamily, SocketType, bind, connect, socket, sockopt};
    let (family, own) = match address(destination) {
        std::net::IpAddr::V4(_) => (AddressFamily::INET, "192.0.2.1"),
        std::net::IpAddr::V6(_) => (AddressFamily::INET6, "2001:db8:2::1"),
    };
    world
        .lab
        .node("street")
        .expect("it")
        .run(|| {
            let caller = socket(family, SocketType::STREAM, None).expect("a socket");
            sockopt::set_socket_reuseaddr(&caller, true).expect("set");
            let patience = Some(Duration::from_millis(700));
            sockopt::set_socket_timeout(&caller, sockopt::Timeout::Send, patience).expect("set");
            bind(&caller, &SocketAddr::new(address(own), 4_000)).expect("bound");
            match connect(&caller, &SocketAddr::new(address(destination), 5432)) {
                Ok(()) => Some(std::net::TcpStream::from(caller)),
                Err(rustix::io::Errno::INPROGRESS | rustix::io::Errno::AGAIN) => None,
                Err(other) => panic!("{other}"),
            }
        })
        .expect("entered")
}

#[test]
fn who_comes_again_from_the_same_port_is_let_in_by_the_program_alone() {
    let name = "flows::who_comes_again_from_the_same_port_is_let_in_by_the_program_alone";
    with_world(name, |world| {
        let [seedbase, impostor] = ["seedbase", "impostor"].map(|it| world.shelf.program(it));
        world.run(|| enforce(&policy(&seedbase)));
        for (family, host) in ADDRESSES {
            let mut named = server(world, &seedbase, "tcp", family);
            for turn in 0..3 {
                let stream = connects_again(world, host);
                assert!(stream.is_some(), "{host}, turn {turn}");
                // The server closes first, and so keeps the connection in mind for a minute.
                named.ask("take");
                named.tell("close");
                drop(stream);
            }
            drop(named);
            let _impostor = server(world, &impostor, "tcp", family);
            assert!(connects_again(world, host).is_none(), "{host}");
        }
        // Who is denied does not get by on what remains of another's connection either.
        let program = impostor.display();
        let ports = r#"["5432/tcp", "5500/tcp", "6000-6010/tcp"]"#;
        let denied = format!(
            "{HOST}[[host.sluice.rule]]\nname = \"not\"\ndeny = {ports}\nprogram = \"{program}\"\n\
             [[host.sluice.rule]]\nname = \"others\"\nallow = {ports}\n"
        );
        let snapshot = world.run(|| enforce(&denied));
        assert_eq!(snapshot.program.reopened.ranges(), [(5432, 5432), (5500, 5500), (6000, 6010)]);
        for (family, host) in ADDRESSES {
            let mut other = server(world, &seedbase, "tcp", family);
            let stream = connects_again(world, host).expect("allowed");
            other.ask("take");
            other.tell("close");
            drop((stream, other));
            let _impostor = server(world, &impostor, "tcp", family);
            assert!(connects_again(world, host).is_none(), "{host}");
        }
    });
}

/// Where the kernel has it, some runtimes use it for every listener.
#[test]
fn multipath_tcp_is_tcp() {
    with_world("flows::multipath_tcp_is_tcp", |world| {
        let [seedbase, impostor] = ["seedbase", "impostor"].map(|it| world.shelf.program(it));
        let text = policy(&seedbase).replace("5432/tcp+udp", "5432-5433/tcp+udp");
        if Path::new("/proc/sys/net/mptcp").exists() {
            for (family, host) in ADDRESSES {
                for (program, expected) in [(&impostor, false), (&seedbase, true)] {
                    let before = server(world, program, "mptcp", family);
                    assert!(world.reaches(PortProtocol::Tcp, host), "nothing is enforced yet");
                    world.run(|| enforce(&text));
                    world.run(cut_all);
                    let what = format!("{program:?} {host}");
                    assert_eq!(world.reaches(PortProtocol::Tcp, host), expected, "before: {what}");
                    drop(before);
                    let after = server(world, program, "mptcp", family);
                    assert_eq!(world.reaches(PortProtocol::Tcp, host), expected, "after: {what}");
                    drop(after);
                    let mut caller = Actor::start(world.sluice(), program);
                    caller.tell(&format!("make mptcp {family}"));
                    let end = if family == "4" { "192.0.2.1:5432" } else { "[2001:db8:2::1]:5433" };
                    let called = caller.ask(&format!("connect {end}")) == "ok";
                    assert_eq!(called, expected, "out: {what}");
                    world.run(|| {
                        assert!(release(&mut netfilter()).expect("released"));
                        programs::clear().expect("cleared");
                    });
                }
            }
        } else {
            let mut actor = Actor::start(world.sluice(), &seedbase);
            assert!(actor.ask("make mptcp 4").contains("not supported"));
        }
    });
}

#[test]
fn whoever_takes_a_udp_port_after_the_named_program_has_none_of_its_flows() {
    with_world(
        "flows::whoever_takes_a_udp_port_after_the_named_program_has_none_of_its_flows",
        |world| {
            let seedbase = world.shelf.program("seedbase");
            let impostor = world.shelf.program("impostor");
            // That it is named for a port of its own gives it nothing at others'.
            let elsewhere = format!(
                "[[host.sluice.rule]]\nname = \"own\"\nallow = [\"5433/udp\"]\nprogram = \"{}\"\n",
                impostor.display()
            );
            world.run(|| enforce(&(policy(&seedbase) + &elsewhere)));
            for (family, host) in [("4", "192.0.2.10"), ("6", "2001:db8:2::10")] {
                let named = server(world, &seedbase, "udp", family);
                let street = world.lab.node("street").expect("it");
                let free = if family == "4" { "0.0.0.0:0" } else { "[::]:0" };
                let client = street.run(|| UdpSocket::bind(free)).expect("run").expect("a port");
                client.set_read_timeout(Some(Duration::from_millis(250))).expect("a time");
                let to = SocketAddr::new(address(host), 5432);
                client.connect(to).expect("connected");
                let asks = || {
                    client.send(b"seed").expect("sent");
                    client.recv(&mut [0; 64]).is_ok()
                };
                // A flow that has gone both ways.
                assert!(asks() && asks() && asks(), "{family}");
                let peer = client.local_addr().expect("an address").port();
                drop(named);
                let mut other = Actor::start(world.sluice(), &impostor);
                other.tell(&format!("make udp {family}"));
                other.tell(&format!("bind {}", any(family)));
                for _ in 0..3 {
                    client.send(b"seed").expect("sent");
                    assert_ne!(other.ask("hear"), "heard", "{family}: it goes on in the flow");
                }
                // Nor out.
                let street_is = if family == "4" { "192.0.2.1" } else { "[2001:db8:2::1]" };
                other.ask(&format!("ask {street_is}:{peer}"));
                client.recv(&mut [0; 64]).expect_err("it speaks in the flow");
                drop(other);
                let _named = server(world, &seedbase, "udp", family);
                assert!(asks(), "{family}: the named program goes on");
            }
        },
    );
}
