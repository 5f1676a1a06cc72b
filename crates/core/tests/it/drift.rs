//! Where the program that was found differs from the one that was meant.

use crate::given::{INHERITED, MENDED, plan};
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{Action, Drift, RuleProgram, Test, compare, lower};
use tipstaff_core::space::RangeSet;

fn meant() -> RuleProgram {
    lower(&plan(MENDED, "sluice"))
}

#[test]
fn a_program_does_not_differ_from_itself() {
    assert_eq!(compare(&meant(), &meant()), []);
}

#[test]
fn each_kind_of_difference_has_a_name() {
    let meant = meant();
    let mut found = meant.clone();
    let gone = found.chains[0].rules.remove(3);
    assert!(matches!(&compare(&meant, &found)[..], [Drift::MissingRule { chain, rule }]
        if chain == "inbound" && *rule == gone));
    assert!(
        matches!(&compare(&found, &meant)[..], [Drift::ExtraRule { rule, .. }] if *rule == gone)
    );

    let mut found = meant.clone();
    let last = found.chains[0].rules.len() - 1;
    found.chains[0].rules.swap(last - 2, last - 1);
    assert_eq!(compare(&meant, &found), [Drift::Reordered("inbound".into())]);

    let mut found = meant.clone();
    found.chains[1].base.as_mut().expect("a base").passes ^= true;
    assert_eq!(compare(&meant, &found), [Drift::ChangedChain("outbound".into())]);

    let mut found = meant.clone();
    let chain = found.chains.pop().expect("a chain");
    assert_eq!(compare(&meant, &found), [Drift::MissingChain(chain.name.clone())]);
    assert_eq!(compare(&found, &meant), [Drift::ExtraChain(chain.name)]);

    let mut more = meant.clone();
    more.reopened = RangeSet::single(5432);
    assert_eq!(compare(&more, &meant), [Drift::Reopened]);
    assert_eq!(compare(&meant, &more), []);
}

#[test]
fn where_programs_listen_old_connections_give_way() {
    let text = MENDED.to_owned() + BY_PROGRAM;
    let ports = RangeSet::from_ranges([(5432, 5432), (7000, 7009)]);
    assert_eq!(lower(&plan(&text, "sluice")).reopened, ports);
    assert!(meant().reopened.is_empty());
}

const BY_PROGRAM: &str = r#"
[[host.sluice.rule]]
name = "seeds"
allow = ["5432/tcp", "5433/udp"]
program = "/usr/sbin/seedbase"

[[host.sluice.rule]]
name = "no-gauge"
deny = ["7000-7009/tcp"]
program = "/usr/sbin/tidegauge"

[[host.sluice.rule]]
name = "out"
direction = "outbound"
allow = ["7777/tcp"]
program = "/usr/sbin/seedbase"

[[host.sluice.rule]]
name = "paused"
allow = ["7778/tcp"]
program = "/usr/sbin/seedbase"
paused = true
"#;

#[test]
fn order_and_content_can_differ_at_once() {
    let (inherited, mended) = (lower(&plan(INHERITED, "sluice")), meant());
    let drifts = compare(&mended, &inherited);
    assert!(drifts.contains(&Drift::Reordered("inbound".into())), "{drifts:?}");
    let rules = drifts.iter().filter_map(Drift::rule).filter_map(|rule| rule.id.clone());
    let mut rules: Vec<RuleId> = rules.collect();
    rules.sort();
    rules.dedup();
    assert_eq!(rules, ["metrics", "reading-room", "shell"].map(RuleId::rule));
}

#[test]
fn what_is_not_understood_makes_the_verdict_unknown_and_not_no() {
    let plan = plan(MENDED, "sluice");
    let packet = crate::given::packet("203.0.113.9", "192.0.2.10", crate::given::tcp(443));
    let with = |test: Test, action: Action| {
        let mut program = lower(&plan);
        let rule = &mut program.chains[0].rules[0];
        (rule.tests, rule.action) = (vec![test], action);
        program.evaluate(&packet).map(|decided| decided.by)
    };
    let odd = || Test::Opaque("numgen".into());
    let tcp = || Test::Protocol(RangeSet::single(6));
    let udp = || Test::Protocol(RangeSet::single(17));
    assert_eq!(with(odd(), Action::Allow), None);
    assert_eq!(with(tcp(), Action::Opaque("queue".into())), None);
    assert_eq!(with(tcp(), Action::Jump("nowhere".into())), None);
    // A test that surely fails settles it, whatever else the rule has.
    assert_eq!(with(udp(), Action::Opaque("queue".into())), Some(RuleId::rule("catalogue")));
}
