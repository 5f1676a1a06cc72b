//! Rules go into the kernel whole, come back as they were, and touch nothing else.

use crate::world::{netfilter, plan};
use std::collections::HashSet;
use tipstaff_core::generate::Generator;
use tipstaff_core::plan::{Act, RuleId};
use tipstaff_core::policy::{Level, Logging, Rate, Record};
use tipstaff_core::program::{Action, Drift, Key, Test, compare, lower};
use tipstaff_core::space::Family;
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::ruleset::{TABLE, encode, enforce, others, read, release};
use tipstaff_linux::{LinuxError, deliver};
use tipstaff_wire::nf_tables::{self as nf, Batch, Expression, Hook};

const INHERITED: &str = include_str!("../../../../demo/inherited.toml");
const MENDED: &str = include_str!("../../../../demo/mended.toml");

/// Sends a batch of somebody else's and expects the kernel to take it.
fn send(batch: Batch) {
    let batch = batch.finish().expect("fits");
    assert_eq!(deliver(&mut netfilter(), "try", &batch).expect("answered"), []);
}

/// A table of somebody else, with one chain and one rule.
fn foreign_table(family_hook: u32) -> Batch {
    let mut batch = Batch::begin(1);
    batch.new_table(&nf::Table { name: "almanac".into(), ..nf::Table::default() });
    batch.new_chain(&nf::Chain {
        table: "almanac".into(),
        name: "tides".into(),
        kind: Some("filter".into()),
        hook: Some(Hook { number: family_hook, priority: -5 }),
        policy: Some(0),
        ..nf::Chain::default()
    });
    batch
}

#[test]
fn generated_policies_come_back_as_they_went_in() {
    sealed("enforcement::generated_policies_come_back_as_they_went_in", || {
        let mut socket = netfilter();
        for seed in 1_000..1_100 {
            let text = Generator::new(seed).policy();
            let plan = plan(&text);
            let program = lower(&plan);
            // Reading back and comparing is part of enforcing.
            let snapshot = enforce(&mut socket, "sluice", &program)
                .unwrap_or_else(|error| panic!("seed {seed}: {error}\n{text}"));
            assert_eq!(snapshot.program, program, "seed {seed}");
            assert_eq!(snapshot.host, "sluice");
        }
    });
}

/// Long lists are looked up in every way there is, and each way is remembered and reported in its own.
#[test]
fn long_lists_come_back_as_they_went_in_whatever_is_remembered() {
    sealed("enforcement::long_lists_come_back_as_they_went_in_whatever_is_remembered", || {
        let mut socket = netfilter();
        let mut looked_up = HashSet::new();
        for (seed, rules) in [(1, 300), (2, 300), (3, 300), (4, 2_000)] {
            let inbound = Generator::new(seed).long_policy(rules);
            let outbound = inbound
                .replace("from = ", "to = ")
                .replace("\nname", "\ndirection = \"outbound\"\nname");
            let grown = Generator::new(seed).grown_policy(rules);
            for text in [inbound, outbound, grown] {
                let mut program = lower(&plan(&text));
                for chain in &program.chains {
                    looked_up.extend(chain.rules.iter().filter_map(|rule| match &rule.action {
                        Action::Choose(lookup) => Some(lookup.key),
                        _ => None,
                    }));
                }
                for (admitted, level) in
                    [(false, Level::Nothing), (false, Level::Denied), (true, Level::All)]
                {
                    program.record = Some(Record { admitted, ..Record::USUAL });
                    program.logging = program.logging.map(|it| Logging { level, ..it });
                    let snapshot = enforce(&mut socket, "sluice", &program)
                        .unwrap_or_else(|error| panic!("{rules}, seed {seed}: {error}"));
                    assert!(snapshot.program == program, "{rules}, seed {seed}");
                }
            }
        }
        for family in Family::BOTH {
            for key in [Key::Source, Key::SourceService, Key::Destination, Key::DestinationService]
            {
                assert!(looked_up.contains(&key(family)), "{looked_up:?}");
            }
        }
    });
}

#[test]
fn releasing_takes_out_our_table_and_only_that() {
    sealed("enforcement::releasing_takes_out_our_table_and_only_that", || {
        send(foreign_table(Hook::LOCAL_IN));
        let mut socket = netfilter();
        let before = others(&mut socket).expect("read");
        assert_eq!(before.len(), 1);
        assert_eq!((before[0].name.as_str(), before[0].chains[0].drops), ("almanac", true));
        assert_eq!(before[0].chains[0].hook, "inbound");
        enforce(&mut socket, "sluice", &lower(&plan(INHERITED))).expect("enforced");
        assert_eq!(others(&mut socket).expect("read"), before);
        assert!(release(&mut socket).expect("released"));
        assert_eq!(read(&mut socket).expect("read"), None);
        assert_eq!(others(&mut socket).expect("read"), before);
        assert!(!release(&mut socket).expect("nothing to release"));
    });
}

#[test]
fn a_refusal_names_the_rule_and_changes_nothing() {
    sealed("enforcement::a_refusal_names_the_rule_and_changes_nothing", || {
        let mut socket = netfilter();
        let good = lower(&plan(INHERITED));
        enforce(&mut socket, "sluice", &good).expect("enforced");
        // No policy text leads to this: every kernel refuses a rate of nothing.
        let mut plan = plan(MENDED);
        let rate = Rate { count: 0, seconds: 1, burst: 1, per_source: false };
        let rules = &mut plan.chains[0].decisions;
        let shell = rules.iter_mut().find(|it| it.id == RuleId::rule("shell")).expect("there");
        shell.act = Act::AllowWithin(rate);
        let error = enforce(&mut socket, "sluice", &lower(&plan)).expect_err("refused");
        match error {
            LinuxError::RuleRefused { rule, .. } => assert_eq!(rule, RuleId::rule("shell")),
            other => panic!("another error: {other:?}"),
        }
        let snapshot = read(&mut socket).expect("read").expect("still there");
        assert_eq!(snapshot.program, good);
    });
}

#[test]
fn what_others_change_in_our_table_is_seen() {
    sealed("enforcement::what_others_change_in_our_table_is_seen", || {
        let mut socket = netfilter();
        let program = lower(&plan(MENDED));
        enforce(&mut socket, "sluice", &program).expect("enforced");
        let mut batch = Batch::begin(1);
        batch.new_rule(&nf::Rule {
            table: TABLE.into(),
            chain: "inbound".into(),
            expressions: vec![
                Expression::Other { name: "numgen".into(), data: numgen() },
                Expression::Immediate(nf::Verdict::Accept),
            ],
            ..nf::Rule::default()
        });
        send(batch);
        let found = read(&mut socket).expect("read").expect("there").program;
        let drifts = compare(&program, &found);
        let [Drift::ExtraRule { chain, rule }] = &drifts[..] else { panic!("{drifts:?}") };
        assert_eq!(chain, "inbound");
        assert_eq!(rule.tests, [Test::Opaque("numgen".into())]);
        assert_eq!(rule.action, Action::Allow);
        // Enforcing again mends it.
        enforce(&mut socket, "sluice", &program).expect("enforced");
        assert_eq!(read(&mut socket).expect("read").expect("there").program, program);
    });
}

#[test]
fn what_others_do_to_reopened_connections_is_seen() {
    sealed("enforcement::what_others_do_to_reopened_connections_is_seen", || {
        let mut socket = netfilter();
        let text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
                    [[host.sluice.rule]]\nname = \"seeds\"\nallow = [\"5432/tcp\"]\n\
                    program = \"/usr/sbin/seedbase\"\n";
        let program = lower(&plan(text));
        assert_eq!(enforce(&mut socket, "sluice", &program).expect("enforced").program, program);
        let mut batch = Batch::begin(1);
        batch.new_rule(&nf::Rule {
            table: TABLE.into(),
            chain: "reopened".into(),
            expressions: vec![Expression::Immediate(nf::Verdict::Drop)],
            ..nf::Rule::default()
        });
        send(batch);
        let found = read(&mut socket).expect("read").expect("there");
        assert_eq!(found.strays, ["reopened"]);
        let drifts = compare(&program, &found.program);
        assert_eq!(drifts, [Drift::ExtraChain("reopened".into()), Drift::Reopened]);
        enforce(&mut socket, "sluice", &program).expect("enforced");
        let mended = read(&mut socket).expect("read").expect("there");
        assert_eq!((mended.program, mended.strays), (program, Vec::new()));
    });
}

/// Attributes of an expression that this program does not know: a number from 0 to 1.
fn numgen() -> Vec<u8> {
    let mut out = tipstaff_wire::Writer::new();
    out.be32(1, 1);
    out.be32(2, 2);
    out.be32(3, 0);
    out.be32(4, 0);
    out.finish().expect("fits")
}

#[test]
fn a_program_of_many_rules_fits_one_batch() {
    sealed("enforcement::a_program_of_many_rules_fits_one_batch", || {
        let mut text = String::from("edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n");
        for number in 0..2_000 {
            let (high, low) = (number / 250, 1 + number % 250);
            text.push_str(&format!(
                "[[host.sluice.rule]]\nname = \"rule-{number}\"\nallow = [\"{}/tcp\"]\n\
                 from = [\"10.44.{high}.{low}\", \"fd44:{number:x}::/64\"]\n",
                1 + number
            ));
        }
        let program = lower(&plan(&text));
        let (batch, _) = encode(&program, "sluice", 1).expect("encoded");
        assert!(batch.finish().expect("fits").bytes.len() > 1_000_000);
        enforce(&mut netfilter(), "sluice", &program).expect("enforced");
    });
}
