//! Replacing the rules while traffic flows opens no gap and loses nothing.

use crate::world::{netfilter, plan};
use rustix::net::sockopt::{set_ip_freebind, set_ipv6_freebind};
use rustix::net::{AddressFamily, SocketFlags, SocketType, bind, socket_with};
use std::net::{SocketAddr, UdpSocket};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;
use tipstaff_core::program::lower;
use tipstaff_linux::NetlinkSocket;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::ruleset::{Marks, change, enforce, generation, read};

const REPLACEMENTS: usize = 1_000;
const CHANGES: usize = 200;
const HOST: [&str; 2] = ["192.0.2.10", "[2001:db8:2::10]"];
const ANY: [&str; 2] = ["0.0.0.0", "::"];

/// A socket of a sender that the street speaks for.
pub fn of(sender: &str) -> UdpSocket {
    let address = SocketAddr::new(sender.parse().expect("an address"), 0);
    let family = if address.is_ipv6() { AddressFamily::INET6 } else { AddressFamily::INET };
    let socket = socket_with(family, SocketType::DGRAM, SocketFlags::CLOEXEC, None);
    let socket = socket.expect("a socket");
    match family {
        AddressFamily::INET6 => set_ipv6_freebind(&socket, true).expect("set"),
        _ => set_ip_freebind(&socket, true).expect("set"),
    }
    bind(&socket, &address).expect("bound");
    socket.into()
}

fn policy(more: &str) -> String {
    format!(
        "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n{more}\
         [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/udp\"]\n"
    )
}

/// Tries a port all the time, each time as a new flow.
fn flood((senders, port): ([&str; 2], u16), done: &AtomicBool, flooded: &AtomicUsize) {
    while !done.load(Ordering::Relaxed) {
        for (host, sender) in HOST.iter().zip(senders) {
            let socket = of(sender);
            socket.send_to(b"let me in", format!("{host}:{port}")).expect("sent");
            flooded.fetch_add(1, Ordering::Relaxed);
        }
    }
}

/// Uses the allowed port, and misses every answer that does not come.
fn ask(senders: [&str; 2], done: &AtomicBool, answered: &AtomicUsize) {
    let sockets = HOST.iter().zip(senders).map(|(host, sender)| {
        let socket = of(sender);
        socket.connect(format!("{host}:443")).expect("connected");
        socket.set_read_timeout(Some(Duration::from_secs(5))).expect("set");
        socket
    });
    let sockets: Vec<UdpSocket> = sockets.collect();
    let mut answer = [0; 64];
    while !done.load(Ordering::Relaxed) {
        for socket in &sockets {
            socket.send(b"a seed, please").expect("sent");
            socket.recv(&mut answer).expect("an answer was lost");
            answered.fetch_add(1, Ordering::Relaxed);
        }
    }
}

#[test]
fn what_both_deny_never_passes_and_what_both_allow_always_does() {
    sealed("replacing::what_both_deny_never_passes_and_what_both_allow_always_does", || {
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let other = "[[host.sluice.rule]]\nname = \"nuisance\"\ndeny = [\"any\"]\n\
                     from = [\"203.0.113.64/28\"]\n";
        let programs = [lower(&plan(&policy(""))), lower(&plan(&policy(other)))];
        sluice
            .run(|| enforce(&mut netfilter(), "sluice", &programs[0]).map(drop))
            .expect("entered")
            .expect("enforced");
        let (denied, allowed) = sluice
            .run(|| {
                let denied = UdpSocket::bind("[::]:5432").expect("bound");
                let allowed = UdpSocket::bind("[::]:443").expect("bound");
                denied.set_nonblocking(true).expect("set");
                let patience = Some(Duration::from_millis(200));
                allowed.set_read_timeout(patience).expect("set");
                (denied, allowed)
            })
            .expect("entered");
        let (done, served) = (AtomicBool::new(false), AtomicBool::new(false));
        let (flooded, answered) = (AtomicUsize::new(0), AtomicUsize::new(0));
        std::thread::scope(|scope| {
            scope.spawn(|| street.run(|| flood((ANY, 5432), &done, &flooded)));
            scope.spawn(|| {
                let mut datagram = [0; 64];
                while !served.load(Ordering::Relaxed) {
                    if let Ok((length, caller)) = allowed.recv_from(&mut datagram) {
                        allowed.send_to(&datagram[..length], caller).expect("answered");
                    }
                }
            });
            let client = scope.spawn(|| street.run(|| ask(ANY, &done, &answered)));
            let replaced = sluice.run(|| {
                let mut socket = netfilter();
                for round in 0..REPLACEMENTS {
                    enforce(&mut socket, "sluice", &programs[round % 2]).expect("enforced");
                }
            });
            done.store(true, Ordering::Relaxed);
            let client = client.join();
            served.store(true, Ordering::Relaxed);
            replaced.expect("entered");
            client.expect("no answer was lost").expect("entered");
        });
        let (flooded, answered) = (flooded.into_inner(), answered.into_inner());
        println!("{REPLACEMENTS} replacements, {flooded} tries denied, {answered} answers");
        assert!(flooded > REPLACEMENTS && answered > REPLACEMENTS);
        let gap = denied.recv_from(&mut [0; 64]);
        assert!(gap.is_err(), "a denied datagram got through: {gap:?}");
    });
}

/// A place of many networks of both IP versions. Those that change stand close to who is always in it, and to who
/// never is: the range that one of them is in goes, and another comes that holds them as well.
fn place(other: bool) -> String {
    let mut list = String::new();
    for at in 0..1_000 {
        let more = if other && at % 4 == 0 { 1 } else { 0 };
        list.push_str(&format!("\"10.{}.{}.{}\", ", at / 100, at % 100, 4 + more));
        list.push_str(&format!("\"2001:db8:a:{:x}::/{}\", ", at * 2, 64 + more));
    }
    let around = match other {
        true => {
            "\"203.0.113.64/30\", \"203.0.113.8\", \"203.0.113.10-203.0.113.30\", \"2001:db8:bad::64/126\", \
             \"2001:db8:bad::8\", \"2001:db8:bad::a-2001:db8:bad::ff\""
        }
        false => {
            "\"203.0.113.66\", \"203.0.113.2-203.0.113.8\", \"203.0.113.10\", \"2001:db8:bad::66-2001:db8:bad::6f\", \
             \"2001:db8:bad::8\""
        }
    };
    format!("[place.far]\naddresses = [{list}{around}]\n")
}

fn policy_of_place(other: bool) -> String {
    format!(
        "edition = 1\n{}[host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n\
         [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/udp\"]\nfrom = [\"far\"]\n",
        place(other)
    )
}

/// While a place gets others, whoever is in both passes, whoever is in neither does not, and rules stay what they are.
#[test]
fn a_place_that_changes_misjudges_nobody() {
    sealed("replacing::a_place_that_changes_misjudges_nobody", || {
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let programs = [false, true].map(|other| lower(&plan(&policy_of_place(other))));
        let (always, never) =
            (["203.0.113.66", "2001:db8:bad::66"], ["203.0.113.9", "2001:db8:bad::9"]);
        let shop = sluice
            .run(|| {
                enforce(&mut netfilter(), "sluice", &programs[0]).expect("enforced");
                let shop = UdpSocket::bind("[::]:443").expect("bound");
                shop.set_read_timeout(Some(Duration::from_millis(300))).expect("set");
                shop
            })
            .expect("entered");
        let (done, served) = (AtomicBool::new(false), AtomicBool::new(false));
        let (tried, answered) = (AtomicUsize::new(0), AtomicUsize::new(0));
        std::thread::scope(|scope| {
            scope.spawn(|| street.run(|| flood((never, 443), &done, &tried)));
            let server = scope.spawn(|| {
                let mut datagram = [0; 64];
                while !served.load(Ordering::Relaxed) {
                    let Ok((length, caller)) = shop.recv_from(&mut datagram) else { continue };
                    let sender = caller.ip().to_canonical().to_string();
                    assert!(!never.contains(&&*sender), "{sender} is never in it, and got through");
                    shop.send_to(&datagram[..length], caller).expect("answered");
                }
            });
            let client = scope.spawn(|| street.run(|| ask(always, &done, &answered)));
            let changed = scope.spawn(|| {
                sluice.run(|| {
                    let mut socket = netfilter();
                    let marks = Marks::default();
                    let before = counted(&mut socket);
                    for round in 1..=CHANGES {
                        let held = read(&mut socket).expect("read").expect("our table");
                        let at = generation(&mut socket).expect("a number");
                        let meant = ("sluice", &programs[round % 2], &marks);
                        let done = change(&mut socket, &held, meant, at, &[]).expect("changed");
                        assert!(done, "all rules would have been replaced");
                    }
                    assert!(counted(&mut socket) > before, "what was counted is gone");
                })
            });
            // Whatever became of it, the others end.
            let changed = changed.join();
            done.store(true, Ordering::Relaxed);
            let client = client.join();
            served.store(true, Ordering::Relaxed);
            changed.expect("each change was made").expect("entered");
            client.expect("no answer was lost").expect("entered");
            server.join().expect("nobody who is never in it got through");
        });
        let (tried, answered) = (tried.into_inner(), answered.into_inner());
        println!(
            "{CHANGES} changes, {tried} tries of who is never in it, {answered} answers to who is always"
        );
        assert!(tried > REPLACEMENTS && answered > REPLACEMENTS);
    });
}

/// How many packets all rules have counted.
fn counted(socket: &mut NetlinkSocket) -> u64 {
    let held = read(socket).expect("read").expect("our table");
    held.tallies.iter().map(|it| it.taken.packets).sum()
}
