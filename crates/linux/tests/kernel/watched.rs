//! Decisions as they are made, held against what the record says was decided.

use crate::remembered::{CLOSED, Tallied, datagram, recall, sluice};
use crate::world::{netfilter, plan};
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};
use std::time::Duration;
use tipstaff_core::policy::Verdict;
use tipstaff_core::program::lower;
use tipstaff_core::space::Direction;
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{Rain, address, sealed, street_sluice_granary};
use tipstaff_linux::ruleset::{self, Who, enforce};
use tipstaff_linux::watching::{Losses, Seen, Watch, Watcher};
use tipstaff_wire::packet::{Payload, build};

fn watch(host: &Node) -> Watch {
    host.run(Watch::open).expect("entered").expect("watched")
}

pub fn end(mut watch: impl Watcher, mut seen: Vec<Seen>) -> (Vec<Seen>, Losses) {
    let losses = watch.end(&mut seen).expect("told");
    (seen, losses)
}

/// What was seen, in the form of the record.
pub fn tallied(seen: &[Seen]) -> Tallied {
    let mut all = BTreeMap::new();
    for it in seen.iter().filter(|it| it.matters()) {
        let other = match it.direction {
            Direction::Outbound => it.destination,
            _ => it.source,
        };
        let decision = it.decision.as_ref().map(ToString::to_string).unwrap_or_default();
        let admitted = it.verdict == Verdict::Allow;
        let key = (it.direction, decision, admitted, Who::Address(other), it.wanted);
        *all.entry(key).or_default() += 1;
    }
    all
}

pub fn remembered(host: &Node) -> Tallied {
    let callers = recall(host).expect("it remembers");
    assert_eq!(callers.no_room, 0);
    let all = callers.list.iter().map(|it| {
        ((it.direction, it.decision.to_string(), it.admitted, it.who, it.wanted), it.count)
    });
    all.collect()
}

pub const HEAD: &str = "edition = 1\n[place.street]\naddresses = [\"203.0.113.0/24\", \"2001:db8:bad::/64\"]\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\", \"fd44:8::10\"]\n\
    record = \"all\"\ndefault.forwarded = \"deny\"\n\
    [[host.sluice.rule]]\nname = \"nuisance\"\ndeny = [\"443/tcp\"]\nfrom = [\"street\"]\n\
    [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\", \"53/udp\"]\n\
    [[host.sluice.rule]]\nname = \"notes\"\nallow = [\"123/udp\"]\nrate = \"2/minute\"\n\
    [[host.sluice.rule]]\nname = \"no-mail\"\nreject = [\"25/tcp\", \"514/udp\"]\n";

/// Everything that is sent, some of it often.
pub fn send(host: &Node, street: &Node) {
    let rain = Rain::open((host, "eth0"), (street, "eth0"));
    let own =
        |source: IpAddr| address(if source.is_ipv4() { "192.0.2.10" } else { "2001:db8:2::10" });
    let inner =
        |source: IpAddr| address(if source.is_ipv4() { "10.44.8.20" } else { "fd44:8::20" });
    let mut tag = 0;
    for source in ["203.0.113.9", "198.51.100.7", "2001:db8:bad::9", "2001:db8:51::7"].map(address)
    {
        for to in [own(source), inner(source)] {
            for port in [443, 25, 22, 9_000, 4_001, 4_099] {
                for times in 0..3 {
                    tag += 1;
                    let payload =
                        Payload::Tcp { source: 2_000 + times, destination: port, flags: 2 };
                    rain.send(&build(source, to, payload, tag));
                }
            }
            for port in [53, 123, 514, 9] {
                for times in 0..4 {
                    tag += 1;
                    let payload = Payload::Udp { source: 3_000 + times, destination: port };
                    rain.send(&build(source, to, payload, tag));
                }
            }
            let kind = if source.is_ipv4() { 8 } else { 128 };
            rain.send(&build(source, to, Payload::Icmp { kind }, 1_000_000 + tag));
            rain.send(&build(source, to, Payload::Other { protocol: 47 }, tag));
        }
    }
}

#[test]
fn each_decision_is_seen_as_the_record_has_it() {
    sealed("watched::each_decision_is_seen_as_the_record_has_it", || {
        // A few rules are walked, many are looked up.
        let many: String = (0..200)
            .map(|it| {
                let verdict = if it % 3 == 0 { "deny" } else { "allow" };
                format!(
                    "[[host.sluice.rule]]\nname = \"r{it}\"\n{verdict} = [\"{}/tcp\"]\n",
                    4_000 + it
                )
            })
            .collect();
        for text in [HEAD.to_owned(), format!("{HEAD}{many}")] {
            let lab = street_sluice_granary();
            let (host, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
            let program = lower(&plan(&text));
            let held = host.run(|| enforce(&mut netfilter(), "sluice", &program)).expect("entered");
            held.expect("enforced");
            host.run(|| std::fs::write("/proc/sys/net/ipv4/ip_forward", "1"))
                .expect("entered")
                .expect("set");
            std::thread::sleep(Duration::from_millis(1_500));
            host.run(|| ruleset::forget(&mut netfilter())).expect("entered").expect("forgotten");
            let watch = watch(host);
            send(host, street);
            // Answers and what a kernel asks its neighbours come a little later.
            std::thread::sleep(Duration::from_millis(200));
            let (seen, losses) = end(watch, Vec::new());
            assert_eq!(losses.lost, 0, "{losses:?}");
            let (seen, remembered) = (tallied(&seen), remembered(host));
            let only = |one: &Tallied, other: &Tallied| -> Vec<String> {
                let differing = one.iter().filter(|it| other.get(it.0) != Some(it.1));
                differing.map(|it| format!("{it:?}")).collect()
            };
            assert!(
                seen == remembered,
                "seen {:#?}\nremembered {:#?}",
                only(&seen, &remembered),
                only(&remembered, &seen)
            );
            assert!(seen.len() > 60, "{}", seen.len());
        }
    });
}

#[test]
fn of_a_flood_each_packet_is_seen_or_counted() {
    sealed("watched::of_a_flood_each_packet_is_seen_or_counted", || {
        const FLOOD: u32 = 300_000;
        let lab = street_sluice_granary();
        let (host, rain) = sluice(&lab);
        let mut watch = watch(host);
        let mut seen = Vec::new();
        let began = std::time::Instant::now();
        for number in 0..FLOOD {
            let source = Ipv4Addr::from_bits((11 << 24) + number).into();
            rain.send(&datagram(source, 9, number));
            if number % 4_096 == 0 {
                seen.extend(watch.next(Duration::ZERO).expect("told"));
            }
        }
        let took = began.elapsed();
        let (seen, losses) = end(watch, seen);
        println!("{losses:?}, {} seen, {took:?}", seen.len());
        let to_nine =
            seen.iter().filter(|it| it.wanted == ruleset::Wanted::Port(17, 9)).count() as u64;
        assert!(losses.came >= u64::from(FLOOD), "{losses:?}");
        assert!(losses.lost > 0 && to_nine > 10_000, "{losses:?}, {to_nine}");
        assert_eq!(seen.len() as u64 + losses.lost + losses.elsewhere, losses.came, "{losses:?}");
        // Nothing is left of it.
        let generation = || ruleset::others(&mut netfilter()).expect("read");
        assert_eq!(host.run(generation).expect("entered"), []);
        let there = host.run(|| tipstaff_linux::watching::watchers(&mut netfilter()));
        assert_eq!(there.expect("entered").expect("read"), 0);
    });
}

#[test]
fn rules_that_are_replaced_meanwhile_are_told_by_their_own_names() {
    sealed("watched::rules_that_are_replaced_meanwhile_are_told_by_their_own_names", || {
        let lab = street_sluice_granary();
        let (host, rain) = sluice(&lab);
        let mut watch = watch(host);
        let policy = |names: [&str; 2]| {
            let rule = |name: &str, port: u16| {
                format!("[[host.sluice.rule]]\nname = \"{name}\"\ndeny = [\"{port}/udp\"]\n")
            };
            lower(&plan(&format!("{CLOSED}{}{}", rule(names[0], 53), rule(names[1], 123))))
        };
        let mut seen = Vec::new();
        for round in 0..20_u32 {
            let names = if round % 2 == 0 { ["names", "hours"] } else { ["hours", "names"] };
            let program = policy(names);
            let held = host.run(|| enforce(&mut netfilter(), "sluice", &program)).expect("entered");
            held.expect("enforced");
            rain.send(&datagram(address("203.0.113.9"), 53, round));
            rain.send(&datagram(address("203.0.113.9"), 123, round));
            seen.extend(watch.next(Duration::from_millis(200)).expect("told"));
            let tells = |it: &Seen, port| it.wanted == ruleset::Wanted::Port(17, port);
            for (port, name) in [(53, names[0]), (123, names[1])] {
                let of: Vec<_> = seen.iter().filter(|it| tells(it, port)).collect();
                assert_eq!(of.len(), 1, "round {round}: {seen:?}");
                let by = of[0].decision.as_ref().map(ToString::to_string);
                // Told while they were being replaced, it may not be known; it is never another's.
                assert!(by.is_none() || by.as_deref() == Some(name), "round {round}: {of:?}");
            }
            seen.clear();
            // Once it is known that they are others, all is known.
            rain.send(&datagram(address("203.0.113.9"), 53, round));
            let again = watch.next(Duration::from_millis(200)).expect("told");
            let of = again.iter().find(|it| tells(it, 53)).expect("seen");
            assert_eq!(of.decision.as_ref().map(ToString::to_string).as_deref(), Some(names[0]));
        }
    });
}

#[test]
fn what_is_decided_elsewhere_is_not_said_to_have_come_too_fast() {
    sealed("watched::what_is_decided_elsewhere_is_not_said_to_have_come_too_fast", || {
        let lab = street_sluice_granary();
        let (host, rain) = sluice(&lab);
        let mut watch = watch(host);
        rain.send(&datagram(address("203.0.113.9"), 53, 1));
        // Kernels send things of their own.
        let mut sent = || {
            let mut next = || watch.next(Duration::from_millis(100)).expect("told");
            let seen: Vec<_> = (0..3).flat_map(|_| next()).collect();
            seen.iter().filter(|it| it.wanted == ruleset::Wanted::Port(17, 53)).count()
        };
        assert_eq!(sent(), 1);
        host.run(|| ruleset::release(&mut netfilter())).expect("entered").expect("gone");
        // So many of one flow, one at once behind the other, that the kernel gives them the same numbers.
        for tag in 0..500 {
            rain.send(&datagram(address("203.0.113.9"), 53, tag));
        }
        assert_eq!(sent(), 0);
        let (_, losses) = end(watch, Vec::new());
        // At most what kernels sent of their own, at the moment at which the rules went.
        assert!(losses.lost <= losses.came.saturating_sub(501), "{losses:?}");
        assert!(losses.elsewhere >= 500, "{losses:?}");
    });
}
