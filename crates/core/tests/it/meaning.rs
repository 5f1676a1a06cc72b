//! A plan and the program that it is lowered to mean the same: exactly, and packet by packet.

use crate::given::{packet, tcp};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW, settle};
use tipstaff_core::meaning::{Atlas, Difference, Meaning};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, Time, Verdict, read};
use tipstaff_core::program::lower;

const POLICIES: u64 = 400;
const PACKETS: usize = 500;

/// What fares differently, in words.
fn differences(atlas: &mut Atlas, first: &Meaning, second: &Meaning) -> String {
    let found = atlas.differences(first, second, 5);
    let words = |it: &Difference| {
        let example = atlas.example(&it.region, &packet("203.0.113.9", "192.0.2.10", tcp(443)));
        format!("{} {} or {}: {example:?}\n", it.direction, it.first, it.second)
    };
    found.iter().map(words).collect()
}

#[test]
fn plans_and_programs_agree_on_generated_packets() {
    let mut verdicts = std::collections::HashMap::new();
    for seed in 0..POLICIES {
        let mut generator = Generator::new(seed);
        if seed % 4 == 3 {
            generator = generator.crowded();
        }
        let text = generator.policy();
        let policy = read(&Source::new("generated.toml", &text))
            .unwrap_or_else(|problems| panic!("seed {seed}: {problems:#?}\n{text}"));
        let mut plan = resolve(&policy, HOST_NAME, NOW).expect("the host is there");
        settle(&mut plan);
        let program = lower(&plan);
        let mut atlas = Atlas::new();
        let (meant, lowered) = (atlas.plan(&plan), atlas.program(&program));
        assert_eq!(differences(&mut atlas, &meant, &lowered), "", "seed {seed}\n{text}");
        assert_eq!(meant, lowered, "seed {seed}: other deciders\n{text}");
        for _ in 0..PACKETS {
            let packet = generator.packet(&plan);
            let packet = generator.led(packet, &plan);
            let decided = plan.evaluate(&packet);
            assert_eq!(atlas.fate(&meant, &packet).by(), Some(&decided.by), "seed {seed}");
            assert_eq!(
                program.evaluate(&packet).as_ref(),
                Some(&decided),
                "seed {seed}, {packet:?}\n{text}"
            );
            *verdicts.entry(decided.verdict).or_insert(0) += 1;
        }
    }
    // The check means something only if every verdict is common.
    assert_eq!(verdicts.len(), 3);
    assert!(verdicts.values().all(|&count| count > 10_000), "{verdicts:?}");
}

/// Long lists become lookups within lookups: lists that hardly overlap, and lists with networks inside
/// networks and exceptions above them.
#[test]
fn long_policies_keep_their_meaning_when_they_become_lookups() {
    // How a policy is made, with which seeds and sizes, and of how many rules packets meet one.
    type Kind<'s> = (fn(&mut Generator, usize) -> String, &'s [(u64, usize)], usize);
    let kinds: [Kind<'_>; 2] = [
        (Generator::long_policy, &[(1, 40), (2, 200), (3, 1_000), (4, 3_000)], 4),
        (Generator::grown_policy, &[(1, 60), (2, 200), (3, 1_000), (4, 1_000), (5, 3_000)], 20),
    ];
    for (kind, (make, sizes, share)) in kinds.into_iter().enumerate() {
        for &(seed, rules) in sizes {
            let mut generator = Generator::new(seed);
            let text = make(&mut generator, rules);
            let policy = read(&Source::new("long.toml", &text)).expect("good");
            let plan = resolve(&policy, HOST_NAME, NOW).expect("the host is there");
            let program = lower(&plan);
            let longest = program.chains.iter().map(|chain| chain.rules.len()).max();
            assert!(longest < Some(rules), "{longest:?} rules in one chain");
            let mut atlas = Atlas::new();
            let (meant, lowered) = (atlas.plan(&plan), atlas.program(&program));
            assert_eq!(differences(&mut atlas, &meant, &lowered), "", "{kind} {seed}");
            assert_eq!(meant, lowered, "{kind} {seed}: other deciders");
            let mut deciders = std::collections::HashSet::new();
            for _ in 0..4_000 {
                let packet = generator.packet_for(&plan);
                let decided = plan.evaluate(&packet);
                let found = program.evaluate(&packet);
                assert_eq!(found.as_ref(), Some(&decided), "{kind} {seed}, {packet:?}");
                deciders.insert(decided.by);
            }
            // Packets do meet many of the rules.
            assert!(deciders.len() > rules.min(1_000) / share, "{} deciders", deciders.len());
        }
    }
}

/// What files of places say is one more set of addresses, where a posture holds by itself is no part of what it
/// means, and what holds between hosts is about several: those keys have tests of their own (`fleets` for the last).
const ELSEWHERE: [&str; 7] =
    ["delegations", "file", "column", "country", "except", "when", "fleet"];

/// Generated policies mean something as a test only if they use the whole language.
#[test]
fn generated_policies_use_every_key() {
    let texts: String = (0..POLICIES).map(|seed| Generator::new(seed).policy()).collect();
    let of_a_host = |kind: &str| kind != "when" && !kind.starts_with("fleet");
    for table in tipstaff_core::policy::SCHEMA.iter().filter(|it| of_a_host(it.kind)) {
        for key in table.keys.iter().filter(|it| !ELSEWHERE.contains(&it.name)) {
            let found =
                [format!("{} = ", key.name), format!("[{}.", key.name), format!(".{}]", key.name)];
            assert!(found.iter().any(|it| texts.contains(it)), "`{}` is never used", key.name);
        }
    }
}

/// `until` is the first moment at which the rule does nothing: for the plan, and for a program that was
/// made before.
#[test]
fn a_rule_ends_at_the_very_second_that_it_names() {
    let end = Time::from_seconds(NOW.seconds() + 3_600);
    let text = format!(
        "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n[[host.sluice.rule]]\n\
         name = \"festival\"\nallow = [\"443/tcp\"]\nuntil = {end}\n"
    );
    let policy = read(&Source::new("policy.toml", &text)).expect("a policy");
    let program = lower(&resolve(&policy, "sluice", NOW).expect("the host"));
    let packet = packet("203.0.113.9", "192.0.2.10", tcp(443));
    for (seconds, verdict) in [(-1, Verdict::Allow), (0, Verdict::Deny), (1, Verdict::Deny)] {
        let now = Time::from_seconds(end.seconds() + seconds);
        let plan = resolve(&policy, "sluice", now).expect("the host");
        assert_eq!(plan.evaluate(&packet).verdict, verdict, "{seconds}");
        let left = program.clone().at(now);
        assert_eq!(left.evaluate(&packet).expect("known").verdict, verdict, "{seconds}");
        let mut atlas = Atlas::new();
        assert_eq!(atlas.plan(&plan), atlas.program(&left), "{seconds}");
    }
}

#[test]
fn what_is_too_much_is_said_and_nothing_else_is_wrong() {
    let (mut enough, mut too_little) = (0, 0);
    for seed in 0..12 {
        let mut generator = Generator::new(seed);
        let text = if seed % 2 == 0 { generator.grown_policy(80) } else { generator.policy() };
        let policy = read(&Source::new("generated.toml", &text)).expect("a policy");
        let mut plan = resolve(&policy, HOST_NAME, NOW).expect("the host is there");
        settle(&mut plan);
        let program = lower(&plan);
        let packets: Vec<_> = (0..100).map(|_| generator.packet_for(&plan)).collect();
        for most in (0..18).map(|it| 64 << it) {
            let mut atlas = Atlas::within(most);
            let meanings = [atlas.plan(&plan), atlas.program(&program)];
            if atlas.is_exhausted() {
                too_little += 1;
                continue;
            }
            enough += 1;
            for (meaning, packet) in
                meanings.iter().flat_map(|it| packets.iter().map(move |p| (it, p)))
            {
                let decided = plan.evaluate(packet);
                let fate = atlas.fate(meaning, packet);
                assert_eq!(fate.by(), Some(&decided.by), "seed {seed}, {most}: {packet:?}\n{text}");
            }
        }
    }
    assert!(enough > 40 && too_little > 40, "{enough} {too_little}");
}
