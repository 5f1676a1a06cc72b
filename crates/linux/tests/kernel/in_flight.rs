//! Packets that are on their way while rules change.

use crate::replacing::of;
use crate::world::{netfilter, plan};
use std::net::UdpSocket;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;
use tipstaff_core::program::{Action, RuleProgram, lower};
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::ruleset::{enforce, generation, go_to, read};

const CHANGES: u32 = 300;

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
                        let at = generation(socket).expect("a number");
                        let held = read(socket).expect("read").expect("our table");
                        let program = &programs[round as usize % 2];
                        go_to(socket, "sluice", program, &held.marks).expect("it is there");
                        // All of it, loaded anew, would be one more.
                        assert_eq!(generation(socket).expect("a number"), at + 2, "by parts");
                    }
                })
            });
            let client = scope.spawn(|| send("203.0.113.1", Duration::from_millis(1), &others));
            let changed = changed.join();
            done.store(true, Ordering::Relaxed);
            client.join().expect("no end of it").expect("entered");
            changed.expect("each change was made").expect("entered");
        });
        let (sent, slipped, let_in) =
            (sent.into_inner(), slipped.into_inner(), let_in.into_inner());
        println!("{CHANGES} changes, {sent} packets turned away, {let_in} let in");
        assert_eq!(slipped, 0, "of {sent} packets");
        assert!(sent > 10_000 && let_in > 100, "{sent}, {let_in}");
    });
}
