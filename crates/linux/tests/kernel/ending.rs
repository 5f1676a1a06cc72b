//! Rules that end by themselves, and rules that report: by the kernel alone.

use crate::world::netfilter;
use std::time::{Duration, SystemTime};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW, POSTURE};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::Verdict::{Allow, Deny};
use tipstaff_core::policy::{Source, Taken, Time, read};
use tipstaff_core::program::{RuleProgram, compare, lower};
use tipstaff_core::space::Direction;
use tipstaff_linux::lab::testing::{address, sealed, street_sluice_granary};
use tipstaff_linux::probe::{Fate, Range, Shot};
use tipstaff_linux::ruleset::enforce;
use tipstaff_wire::packet::Payload;

fn now() -> Time {
    let since = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).expect("after 1970");
    Time::from_seconds(i64::try_from(since.as_secs()).expect("small"))
}

fn shot(destination: u16, source: u16) -> Shot {
    Shot {
        direction: Direction::Inbound,
        source: address("203.0.113.9"),
        destination: address("192.0.2.10"),
        payload: Payload::Tcp { source, destination, flags: 2 },
    }
}

#[test]
fn a_rule_ends_at_its_time_with_nobody_there() {
    sealed("ending::a_rule_ends_at_its_time_with_nobody_there", || {
        // A slow machine needs longer until the rule is in force and has been tried.
        assert!([3, 12, 40].into_iter().any(ends_after), "the machine was too slow for this test");
    });
}

/// `false` if the rule had ended before it could be tried.
fn ends_after(seconds: i64) -> bool {
    let lab = street_sluice_granary();
    let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
    let begun = now();
    let end = Time::from_seconds(begun.seconds() + seconds);
    // Enough rules to become lookups, with the one that ends ahead of one that does not.
    let mut text = String::from("edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n");
    for number in 0..20 {
        text += &format!(
            "[[host.sluice.rule]]\nname = \"other-{number}\"\nallow = [\"{}/tcp\"]\n\
                 from = [\"10.0.{number}.0/24\"]\n",
            1000 + number
        );
    }
    text += &format!(
        "[[host.sluice.rule]]\nname = \"for-now\"\nallow = [\"443/tcp\"]\nuntil = {end}\n\
             log = true\n[[host.sluice.rule]]\nname = \"behind\"\nreject = [\"443/udp\"]\n"
    );
    let policy = read(&Source::new("policy.toml", &text)).expect("a policy");
    let plan = resolve(&policy, "sluice", begun).expect("the host");
    let program = lower(&plan);
    let snapshot = sluice.run(|| enforce(&mut netfilter(), "sluice", &program));
    let snapshot = snapshot.expect("entered").expect("enforced");
    assert_eq!(snapshot.program, program);
    let mut range = Range::open(sluice, "eth0", street, "eth0").expect("opened");
    let before = range.fire(&[shot(443, 20_000)]).expect("fired").fates;
    if now() >= end {
        return false;
    }
    assert_eq!(before, [Fate::Decided(Allow)]);
    while now() < end {
        std::thread::sleep(Duration::from_millis(50));
    }
    let after = range.fire(&[shot(443, 20_001)]).expect("fired").fates;
    assert_eq!(after, [Fate::Decided(Deny)]);
    // What is left in the kernel means what the policy now says.
    let later = resolve(&policy, "sluice", now()).expect("the host");
    let mut atlas = tipstaff_core::meaning::Atlas::new();
    let (meant, found) = (atlas.plan(&later), atlas.program(&snapshot.program.at(now())));
    assert_eq!(meant, found);
    true
}

/// Up to its end the posture's rules decide about every packet, from then on what holds without it, by the kernel
/// alone; and all of that is read back as it was meant.
#[test]
fn a_posture_ends_at_its_time_with_nobody_there() {
    sealed("ending::a_posture_ends_at_its_time_with_nobody_there", || {
        assert!(
            [4, 15, 45].into_iter().any(posture_ends_after),
            "the machine was too slow for this test"
        );
        for seed in 0..12 {
            let mut generator = Generator::new(seed);
            if seed % 2 == 1 {
                generator = generator.crowded();
            }
            let text = generator.policy();
            let end = Time::from_seconds(NOW.seconds() + 600);
            let both = postured(&text, HOST_NAME, POSTURE, (NOW, end));
            let held = enforce(&mut netfilter(), HOST_NAME, &both).expect("enforced");
            assert_eq!(held.program, both, "seed {seed}");
            let without = both.clone().at(end);
            assert_eq!(compare(&without, &held.program.at(end)), [], "seed {seed}");
        }
    });
}

/// The program of a host in a posture up to `end`, and in none from then on.
fn postured(text: &str, host: &str, posture: &str, (begun, end): (Time, Time)) -> RuleProgram {
    let policy =
        read(&Source::new("policy.toml", text)).unwrap_or_else(|it| panic!("{it:#?}\n{text}"));
    let within = policy.in_posture(host, posture).expect("a posture");
    let plan = |policy| {
        let mut plan = resolve(policy, host, begun).expect("the host");
        tipstaff_core::generate::settle(&mut plan);
        plan
    };
    let (without, mut within) = (plan(&policy), plan(&within));
    let why = "visitors".to_owned();
    within.taken =
        Some(Taken { name: posture.into(), since: begun, until: Some(end), why, then: None });
    lower(&within).until(end, lower(&without))
}

/// `false` if it had ended before it could be tried.
fn posture_ends_after(seconds: i64) -> bool {
    let lab = street_sluice_granary();
    let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
    // Enough rules to become lookups, on both sides.
    let rules = |section: &str, word: &str| -> String {
        let rule = |number: u32| {
            format!(
                "[[{section}.rule]]\nname = \"{word}-{number}\"\nallow = [\"{}/tcp\"]\nfrom = [\"10.0.{number}.0/24\"]\n",
                1000 + number
            )
        };
        (0..20).map(rule).collect()
    };
    let mut text = format!(
        "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
         [[host.sluice.rule]]\nname = \"always\"\nallow = [\"80/tcp\"]\n{}\
         [host.sluice.posture.showing]\ninstead = true\n{}",
        rules("host.sluice", "own"),
        rules("host.sluice.posture.showing", "shown")
    );
    text += "[[host.sluice.posture.showing.rule]]\nname = \"open-day\"\nallow = [\"443/tcp\"]\n";
    let begun = now();
    let end = Time::from_seconds(begun.seconds() + seconds);
    let program = postured(&text, "sluice", "showing", (begun, end));
    let held = sluice.run(|| enforce(&mut netfilter(), "sluice", &program)).expect("entered");
    assert_eq!(held.expect("enforced").program, program);
    let mut range = Range::open(sluice, "eth0", street, "eth0").expect("opened");
    let before = range.fire(&[shot(443, 20_000), shot(80, 20_001)]).expect("fired").fates;
    if now() >= end {
        return false;
    }
    assert_eq!(before, [Fate::Decided(Allow), Fate::Decided(Deny)]);
    while now() < end {
        std::thread::sleep(Duration::from_millis(50));
    }
    let after = range.fire(&[shot(443, 20_002), shot(80, 20_003)]).expect("fired").fates;
    assert_eq!(after, [Fate::Decided(Deny), Fate::Decided(Allow)]);
    true
}

#[test]
fn what_a_rule_takes_is_reported_under_its_name_up_to_the_cap() {
    sealed("ending::what_a_rule_takes_is_reported_under_its_name_up_to_the_cap", || {
        let text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
            [[host.sluice.rule]]\nname = \"watched\"\nallow = [\"443/tcp\"]\nlog = true\n\
            [[host.sluice.rule]]\nname = \"capped\"\ndeny = [\"23/tcp\"]\nlog = \"3/hour\"\n";
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let program = lower(&crate::world::plan(text));
        let enforced = sluice.run(|| enforce(&mut netfilter(), "sluice", &program).map(drop));
        enforced.expect("entered").expect("enforced");
        let mut range = Range::open(sluice, "eth0", street, "eth0").expect("opened");
        let mut reports = sluice.run(crate::world::listen_to_reports).expect("entered");
        let shots: Vec<Shot> = (0..20u16)
            .map(|number| shot(if number % 2 == 0 { 443 } else { 23 }, 30_000 + number))
            .collect();
        let account = range.fire(&shots).expect("fired");
        assert_eq!(account.fates.iter().filter(|it| **it == Fate::Decided(Allow)).count(), 10);
        let names = crate::world::reported(&mut reports);
        let count = |name: &str| names.iter().filter(|it| *it == name).count();
        assert_eq!((count("watched"), count("capped"), names.len()), (10, 3, 13), "{names:?}");
    });
}
