//! Decisions as the rules report them, held against what the record says was decided.

use crate::remembered::{CLOSED, by_others, datagram, sluice};
use crate::watched::{HEAD, end, remembered, send, tallied};
use crate::world::{netfilter, plan};
use std::net::{IpAddr, Ipv4Addr, UdpSocket};
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use tipstaff_core::policy::{Time, Verdict};
use tipstaff_core::program::{Drift, RuleProgram, compare, lower};
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{address, sealed, street_sluice_granary};
use tipstaff_linux::replica::{Replica, Standing};
use tipstaff_linux::ruleset::{self, TABLE, Wanted, enforce, read};
use tipstaff_linux::watching::{Logged, Seen, Watcher};
use tipstaff_linux::{Transport as _, deliver};
use tipstaff_wire::nf_tables as nf;

fn put(host: &Node, program: &RuleProgram) {
    let held = host.run(|| enforce(&mut netfilter(), "sluice", program)).expect("entered");
    assert_eq!(held.expect("enforced").program, *program);
}

fn take(host: &Node) -> Logged {
    host.run(Logged::open).expect("entered").expect("taken")
}

const ALL: &str =
    "log = \"all\"\nlog-at-most = [\"100000/second\", \"100000/second per source\"]\n";

#[test]
fn what_is_reported_is_what_is_remembered() {
    sealed("reported::what_is_reported_is_what_is_remembered", || {
        let many: String = (0..200)
            .map(|it| {
                let verdict = if it % 3 == 0 { "deny" } else { "allow" };
                let port = 4_000 + it;
                format!("[[host.sluice.rule]]\nname = \"r{it}\"\n{verdict} = [\"{port}/tcp\"]\n")
            })
            .collect();
        let logged = HEAD.replace("record = \"all\"\n", &format!("record = \"all\"\n{ALL}"));
        let mut before = None;
        for text in [
            logged.clone(),
            format!("{logged}{many}"),
            // What is reported does not depend on what is remembered.
            logged.replace("record = \"all\"", "record = \"off\"") + &many,
        ] {
            let lab = street_sluice_granary();
            let (host, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
            put(host, &lower(&plan(&text)));
            host.run(|| std::fs::write("/proc/sys/net/ipv4/ip_forward", "1"))
                .expect("entered")
                .expect("set");
            std::thread::sleep(Duration::from_millis(1_500));
            let records = text.contains("record = \"all\"");
            if records {
                host.run(|| ruleset::forget(&mut netfilter()))
                    .expect("entered")
                    .expect("forgotten");
            }
            let logged = take(host);
            send(host, street);
            std::thread::sleep(Duration::from_millis(200));
            let (seen, losses) = end(logged, Vec::new());
            assert_eq!((losses.lost, losses.came), (0, seen.len() as u64));
            let seen = tallied(&seen);
            assert!(seen.len() > 60, "{}", seen.len());
            if records {
                let remembered = remembered(host);
                assert!(seen == remembered, "seen {seen:#?}\nremembered {remembered:#?}");
                before = Some(seen);
            } else {
                assert_eq!(Some(seen), before);
            }
        }
    });
}

#[test]
fn no_more_is_reported_than_is_wanted_and_the_rest_is_counted() {
    sealed("reported::no_more_is_reported_than_is_wanted_and_the_rest_is_counted", || {
        let lab = street_sluice_granary();
        let (host, rain) = sluice(&lab);
        let caps = "log = \"denied\"\nlog-at-most = [\"1/hour, burst 40\", \"1/hour per source, burst 3\"]\n";
        put(host, &lower(&plan(&CLOSED.replace("record = \"all\"\n", caps))));
        // What was beyond it before somebody looks is not lost to who looks.
        for tag in 0..10 {
            rain.send(&datagram(address("203.0.113.200"), 9, tag));
        }
        let mut logged = take(host);
        let mut seen = Vec::new();
        assert_eq!(logged.losses(&mut seen).expect("told").lost, 0);
        let mut tag = 100;
        for number in 0..30_u32 {
            let source: IpAddr = match number % 2 {
                0 => Ipv4Addr::from_bits(0xcb00_7100 + number).into(),
                // Of one network of 64 bits: one sender.
                _ => address(&format!("2001:db8:bad::{number:x}")),
            };
            for _ in 0..10 {
                tag += 1;
                rain.send(&datagram(source, 9, tag));
            }
        }
        seen.extend(logged.next(Duration::from_millis(300)).expect("told"));
        let (seen, losses) = end(logged, seen);
        let mine: Vec<&Seen> = seen.iter().filter(|it| it.wanted == Wanted::Port(17, 9)).collect();
        let of = |which: &dyn Fn(IpAddr) -> bool| mine.iter().filter(|it| which(it.source)).count();
        assert!(mine.iter().all(|it| it.verdict == Verdict::Deny));
        // 3 each of 15 addresses and of one network, were it not for the 40 in all, of which 3 had gone before.
        assert_eq!(of(&|it| it == address("203.0.113.0")), 3);
        assert_eq!(of(&|it| it.is_ipv6()), 3);
        assert_eq!(mine.len(), 37);
        assert_eq!(losses.came, losses.lost + seen.len() as u64);
        assert!(losses.lost >= 263, "{losses:?}");
        let counted = host.run(|| ruleset::reported(&mut netfilter())).expect("entered");
        let [asked, told] = counted.expect("read").expect("reported");
        assert!(asked >= 310 && told == 40, "{asked} {told}");
    });
}

fn in_seconds(seconds: u64) -> Time {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).expect("a clock").as_secs();
    Time::from_seconds(i64::try_from(now + seconds).expect("fits"))
}

#[test]
fn what_is_reported_for_a_time_ends_by_itself() {
    sealed("reported::what_is_reported_for_a_time_ends_by_itself", || {
        for level in ["nothing", "denied"] {
            let lab = street_sluice_granary();
            let (host, rain) = sluice(&lab);
            let text = CLOSED.replace("record = \"all\"\n", &format!("log = \"{level}\"\n"));
            let text = text.replace("443/tcp", "443/udp");
            let mut plan = plan(&text);
            let standing = lower(&plan);
            let until = in_seconds(3);
            plan.logging.all_until = Some(until);
            let raised = lower(&plan);
            put(host, &raised);
            assert_eq!(compare(&standing, &raised), []);
            let mut logged = take(host);
            let mut ports = |tag| {
                rain.send(&datagram(address("203.0.113.9"), 443, tag));
                rain.send(&datagram(address("203.0.113.9"), 9, tag));
                std::thread::sleep(Duration::from_millis(150));
                let seen = logged.next(Duration::from_millis(100)).expect("told");
                let mut ports: Vec<_> = seen
                    .iter()
                    .filter(|it| it.direction == tipstaff_core::space::Direction::Inbound)
                    .map(|it| it.wanted)
                    .collect();
                ports.sort();
                ports
            };
            assert_eq!(ports(1), [Wanted::Port(17, 9), Wanted::Port(17, 443)]);
            while in_seconds(0) <= until {
                std::thread::sleep(Duration::from_millis(100));
            }
            let after = ports(2);
            match level {
                "nothing" => assert_eq!(after, []),
                _ => assert_eq!(after, [Wanted::Port(17, 9)]),
            }
        }
    });
}

#[test]
fn rules_that_are_replaced_meanwhile_are_reported_by_their_own_names() {
    sealed("reported::rules_that_are_replaced_meanwhile_are_reported_by_their_own_names", || {
        let lab = street_sluice_granary();
        let (host, rain) = sluice(&lab);
        let mut logged = take(host);
        let policy = |names: [&str; 2]| {
            let rule = |name: &str, port: u16| {
                format!("[[host.sluice.rule]]\nname = \"{name}\"\ndeny = [\"{port}/udp\"]\n")
            };
            let text = CLOSED.replace("record = \"all\"\n", &format!("record = \"all\"\n{ALL}"));
            lower(&plan(&format!("{text}{}{}", rule(names[0], 53), rule(names[1], 123))))
        };
        let mut expected = Vec::new();
        let mut seen = Vec::new();
        for round in 0..60_u32 {
            let names = if round % 2 == 0 { ["names", "hours"] } else { ["hours", "names"] };
            put(host, &policy(names));
            for (port, name) in [(53, names[0]), (123, names[1])] {
                rain.send(&datagram(address("203.0.113.9"), port, round));
                expected.push((Wanted::Port(17, port), name.to_owned()));
            }
            if round % 7 == 0 {
                seen.extend(logged.next(Duration::from_millis(50)).expect("told"));
            }
        }
        let (seen, losses) = end(logged, seen);
        assert_eq!(losses.lost, 0, "{losses:?}");
        let found: Vec<_> = seen
            .iter()
            .filter(|it| expected.iter().any(|one| one.0 == it.wanted))
            .map(|it| {
                (it.wanted, it.decision.as_ref().map(ToString::to_string).unwrap_or_default())
            })
            .collect();
        // Of lists that are gone by the time it is read, no name is known; none is another's.
        assert_eq!(found.len(), expected.len());
        for (found, expected) in found.iter().zip(&expected) {
            assert!(found == expected || found.1.is_empty(), "{found:?}, not {expected:?}");
        }
        assert_eq!(found.last(), expected.last());
    });
}

/// A table of somebody else that marks what comes in, ahead of ours, and behind ours stops what is not marked so.
fn others() {
    const MARK: u32 = 7;
    let first = nf::registers::FIRST;
    let data = MARK.to_ne_bytes().to_vec();
    let set = vec![
        nf::Expression::Load { register: first, data: data.clone() },
        nf::Expression::MetaSet { key: nf::MetaKey::Mark, source: first },
    ];
    let stop = vec![
        nf::Expression::Meta { key: nf::MetaKey::Mark, register: first },
        nf::Expression::Cmp { register: first, op: nf::Compare::NotEqual, data },
        nf::Expression::Immediate(nf::Verdict::Drop),
    ];
    let mut kernel = netfilter();
    let mut batch = nf::Batch::begin(kernel.next_sequence());
    batch.new_table(&nf::Table { name: "others".into(), ..nf::Table::default() });
    for (name, priority, expressions) in [("ahead", -10, set), ("behind", 10, stop)] {
        batch.new_chain(&nf::Chain {
            table: "others".into(),
            name: name.into(),
            kind: Some("filter".into()),
            hook: Some(nf::Hook { number: nf::Hook::LOCAL_IN, priority }),
            policy: Some(1),
            ..nf::Chain::default()
        });
        batch.new_rule(&nf::Rule {
            table: "others".into(),
            chain: name.into(),
            expressions,
            ..nf::Rule::default()
        });
    }
    let refusals = deliver(&mut kernel, "try", &batch.finish().expect("fits"));
    assert_eq!(refusals.expect("told"), []);
}

#[test]
fn a_reported_packet_keeps_the_mark_that_others_gave_it() {
    sealed("reported::a_reported_packet_keeps_the_mark_that_others_gave_it", || {
        let lab = street_sluice_granary();
        let (host, rain) = sluice(&lab);
        let text = CLOSED.replace("record = \"all\"\n", ALL).replace("443/tcp", "443/udp");
        put(host, &lower(&plan(&text)));
        host.run(others).expect("entered");
        let listener = host.run(|| UdpSocket::bind("0.0.0.0:443")).expect("entered");
        let listener = listener.expect("bound");
        listener.set_read_timeout(Some(Duration::from_secs(2))).expect("set");
        let logged = take(host);
        for tag in 0..5 {
            rain.send(&datagram(address("203.0.113.9"), 443, tag));
            listener.recv(&mut [0; 64]).expect("marked as it was");
        }
        let (seen, _) = end(logged, Vec::new());
        assert_eq!(seen.iter().filter(|it| it.wanted == Wanted::Port(17, 443)).count(), 5);
    });
}

#[test]
fn what_somebody_changes_about_reports_is_seen() {
    sealed("reported::what_somebody_changes_about_reports_is_seen", || {
        let program = lower(&plan(&CLOSED.replace("record = \"all\"\n", ALL)));
        let rule = |chain: &str, expressions| nf::Rule {
            table: TABLE.into(),
            chain: chain.into(),
            expressions,
            ..nf::Rule::default()
        };
        let accept = vec![nf::Expression::Immediate(nf::Verdict::Accept)];
        for changed in
            [rule("record/sender/drop", accept.clone()), rule("record/inbound/catalogue", accept)]
        {
            let mut kernel = netfilter();
            enforce(&mut kernel, "sluice", &program).expect("enforced");
            by_others(&mut kernel, &changed);
            let held = read(&mut kernel).expect("read").expect("there").program;
            let drifts = compare(&program, &held);
            assert!(drifts.contains(&Drift::Logging), "{drifts:?}");
        }
    });
}

#[test]
fn one_takes_the_reports_at_a_time() {
    sealed("reported::one_takes_the_reports_at_a_time", || {
        let first = Logged::open().expect("taken");
        let error = Logged::open().err().expect("refused").to_string();
        assert!(error.contains("another process takes those of group 8484"), "{error}");
        drop(first);
        Logged::open().expect("taken");
    });
}

#[test]
fn a_copy_of_the_machine_has_its_reports_too() {
    sealed("reported::a_copy_of_the_machine_has_its_reports_too", || {
        let lab = street_sluice_granary();
        let (host, _) = sluice(&lab);
        for keys in [ALL.to_owned(), format!("record = \"all\"\n{ALL}")] {
            let program = lower(&plan(&CLOSED.replace("record = \"all\"\n", &keys)));
            put(host, &program);
            let replica = host.run(Replica::take).expect("entered").expect("read");
            let Standing { stage, missing, .. } = replica.set_up("sluice").expect("set up");
            assert_eq!(missing, Vec::<String>::new());
            let held = stage.host().run(|| read(&mut netfilter())).expect("entered");
            assert_eq!(held.expect("read").expect("there").program, program);
        }
    });
}
