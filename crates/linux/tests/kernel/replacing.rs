//! Replacing the rules while traffic flows opens no gap and loses nothing.

use crate::world::{netfilter, plan};
use std::net::UdpSocket;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;
use tipstaff_core::program::lower;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::ruleset::enforce;

const REPLACEMENTS: usize = 1_000;
const HOST: [&str; 2] = ["192.0.2.10", "[2001:db8:2::10]"];

fn policy(more: &str) -> String {
    format!(
        "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n{more}\
         [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/udp\"]\n"
    )
}

/// Tries the denied port all the time, each time as a new flow.
fn flood(done: &AtomicBool, flooded: &AtomicUsize) {
    while !done.load(Ordering::Relaxed) {
        for (host, any) in HOST.iter().zip(["0.0.0.0:0", "[::]:0"]) {
            let socket = UdpSocket::bind(any).expect("bound");
            socket.send_to(b"let me in", format!("{host}:5432")).expect("sent");
            flooded.fetch_add(1, Ordering::Relaxed);
        }
    }
}

/// Uses the allowed port, and misses every answer that does not come.
fn ask(done: &AtomicBool, answered: &AtomicUsize) {
    let sockets = HOST.iter().zip(["0.0.0.0:0", "[::]:0"]).map(|(host, any)| {
        let socket = UdpSocket::bind(any).expect("bound");
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
            scope.spawn(|| street.run(|| flood(&done, &flooded)));
            scope.spawn(|| {
                let mut datagram = [0; 64];
                while !served.load(Ordering::Relaxed) {
                    if let Ok((length, caller)) = allowed.recv_from(&mut datagram) {
                        allowed.send_to(&datagram[..length], caller).expect("answered");
                    }
                }
            });
            let client = scope.spawn(|| street.run(|| ask(&done, &answered)));
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
