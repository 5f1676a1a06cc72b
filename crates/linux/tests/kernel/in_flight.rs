//! Packets that are on their way while rules change.

use crate::replacing::of;
use crate::world::{netfilter, plan};
use std::net::UdpSocket;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;
use tipstaff_core::program::{Action, RuleProgram, lower};
use tipstaff_linux::NetlinkSocket;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::ruleset::{enforce, enforce_at, generation, go_to, read, release};

const CHANGES: usize = 150;
const LOADS: usize = 100;

/// Many networks that nobody is let in from, and one port for all others. What one of these networks is told besides is
/// nothing to the sender in it who is turned away.
fn list(port: u16) -> RuleProgram {
    let rule = |name: &str, what: &str, from: &str| {
        format!("[[host.sluice.rule]]\nname = \"{name}\"\n{what}\nfrom = [\"{from}\"]\n")
    };
    let mut text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n".to_owned();
    text += &rule("nuisance", "deny = [\"any\"]", "203.0.113.64/28");
    text += &rule("besides", &format!("allow = [\"{port}/udp\"]"), "203.0.113.0/24");
    for at in 0..200 {
        text += &rule(&format!("nuisance-{at}"), "deny = [\"any\"]", &format!("198.18.{at}.0/24"));
    }
    text += "[[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/udp\"]\n";
    let program = lower(&plan(&text));
    let mut rules = program.chains.iter().flat_map(|it| &it.rules);
    assert!(rules.any(|it| matches!(it.action, Action::Choose(_))), "nothing is looked up");
    program
}

/// Whoever is turned away before and behind a change is so in the midst of it, however many packets he sends, and
/// whoever is let in is.
#[test]
fn nobody_slips_in_while_lookups_change() {
    sealed("in_flight::nobody_slips_in_while_lookups_change", || {
        flooded(|socket, program| {
            let at = generation(socket).expect("a number");
            let held = read(socket).expect("read").expect("our table");
            go_to(socket, "sluice", program, &held.marks).expect("it is there");
            // All of it, loaded anew, would be three more: with what cannot be done first.
            assert_eq!(generation(socket).expect("a number"), at + 2, "by parts");
        });
    });
}

/// Likewise while all rules are replaced.
#[test]
fn nobody_slips_in_while_all_rules_are_replaced() {
    sealed("in_flight::nobody_slips_in_while_all_rules_are_replaced", || {
        flooded(|socket, program| {
            let at = generation(socket).expect("a number");
            let held = read(socket).expect("read").expect("our table");
            let meant = ("sluice", program, &held.marks);
            enforce_at(socket, Some(&held), meant, at, &held.tallies).expect("it is there");
            // At once, it would be one more.
            assert_eq!(generation(socket).expect("a number"), at + 2, "old lookups go later");
        });
    });
}

/// Has one of whom nothing is let in send as much as he can while rules change many times, and one who is let in some.
fn flooded(mut change: impl FnMut(&mut NetlinkSocket, &RuleProgram) + Send) {
    let lab = street_sluice_granary();
    let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
    let programs = [list(5_000), list(5_001)];
    let begun = sluice.run(|| enforce(&mut netfilter(), "sluice", &programs[0]).map(drop));
    begun.expect("entered").expect("enforced");
    let shop = sluice.run(|| UdpSocket::bind("0.0.0.0:443").expect("bound")).expect("entered");
    shop.set_read_timeout(Some(Duration::from_millis(20))).expect("set");
    let (done, sent) = (AtomicBool::new(false), AtomicUsize::new(0));
    let (slipped, let_in) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let others = AtomicUsize::new(0);
    let send = |sender: &'static str, pause: Duration, count: &AtomicUsize| {
        street.run(|| {
            let socket = of(sender);
            socket.connect("192.0.2.10:443").expect("connected");
            while !done.load(Ordering::Relaxed) {
                // There may be no room for it: that is for whoever sends too much.
                let _ = socket.send(sender.as_bytes());
                count.fetch_add(1, Ordering::Relaxed);
                std::thread::sleep(pause);
            }
        })
    };
    std::thread::scope(|scope| {
        scope.spawn(|| send("203.0.113.66", Duration::ZERO, &sent));
        scope.spawn(|| {
            let mut datagram = [0; 64];
            while !done.load(Ordering::Relaxed) {
                let Ok((_, from)) = shop.recv_from(&mut datagram) else { continue };
                let of_nuisance = from.ip().to_string() == "203.0.113.66";
                let count = if of_nuisance { &slipped } else { &let_in };
                count.fetch_add(1, Ordering::Relaxed);
            }
        });
        let changed = scope.spawn(|| {
            sluice.run(|| {
                let socket = &mut netfilter();
                for round in 1..=CHANGES {
                    change(socket, &programs[round % 2]);
                }
            })
        });
        let client = scope.spawn(|| send("203.0.113.1", Duration::from_millis(1), &others));
        let changed = changed.join();
        done.store(true, Ordering::Relaxed);
        client.join().expect("no end of it").expect("entered");
        changed.expect("each change was made").expect("entered");
    });
    let (sent, slipped, let_in) = (sent.into_inner(), slipped.into_inner(), let_in.into_inner());
    println!("{CHANGES} changes, {sent} packets turned away, {let_in} let in");
    assert_eq!(slipped, 0, "of {sent} packets");
    assert!(sent > 10_000 && let_in > 100, "{sent}, {let_in}");
}

/// Whoever is let in with rules and without them is also while they come: packets come to a chain long before the batch
/// that makes it is in force.
#[test]
fn nobody_is_turned_away_while_rules_come() {
    sealed("in_flight::nobody_is_turned_away_while_rules_come", || {
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let program = list(5_000);
        let shop = sluice.run(|| UdpSocket::bind("0.0.0.0:443").expect("bound")).expect("entered");
        shop.set_read_timeout(Some(Duration::from_millis(100))).expect("set");
        let (done, sent) = (AtomicBool::new(false), AtomicUsize::new(0));
        let (came, over) = (AtomicUsize::new(0), AtomicBool::new(false));
        std::thread::scope(|scope| {
            scope.spawn(|| {
                let mut datagram = [0; 64];
                while !over.load(Ordering::Relaxed) {
                    if shop.recv_from(&mut datagram).is_ok() {
                        came.fetch_add(1, Ordering::Relaxed);
                    }
                }
            });
            let client = scope.spawn(|| {
                street.run(|| {
                    let socket = of("203.0.113.1");
                    socket.connect("192.0.2.10:443").expect("connected");
                    while !done.load(Ordering::Relaxed) {
                        // No more than there is room for.
                        if sent.load(Ordering::Relaxed) < came.load(Ordering::Relaxed) + 64 {
                            socket.send(b"let me in").expect("sent");
                            sent.fetch_add(1, Ordering::Relaxed);
                        } else {
                            std::thread::sleep(Duration::from_micros(50));
                        }
                    }
                })
            });
            let loaded = scope.spawn(|| {
                sluice.run(|| {
                    let socket = &mut netfilter();
                    for _ in 0..LOADS {
                        enforce(socket, "sluice", &program).map(drop).expect("enforced");
                        release(socket).expect("taken out");
                    }
                })
            });
            let loaded = loaded.join();
            done.store(true, Ordering::Relaxed);
            client.join().expect("no end of it").expect("entered");
            std::thread::sleep(Duration::from_millis(300));
            over.store(true, Ordering::Relaxed);
            loaded.expect("each time").expect("entered");
        });
        let (sent, came) = (sent.into_inner(), came.into_inner());
        println!("{LOADS} times, {sent} packets");
        assert_eq!(sent - came, 0, "lost of {sent} packets");
        assert!(sent > 1_000, "{sent}");
    });
}
