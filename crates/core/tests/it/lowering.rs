//! A plan to the neutral program that the kernel is told.

use crate::given::{MENDED, plan};
use std::collections::HashSet;
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::meaning::Atlas;
use tipstaff_core::plan::{RuleId, resolve};
use tipstaff_core::policy::{Source, read};
use tipstaff_core::program::{Action, Chain, Counted, ProgramRule, RuleProgram, lower};
use tipstaff_core::space::Direction;

fn listing(program: &RuleProgram) -> String {
    let mut text = String::new();
    for chain in &program.chains {
        let end = match chain.base {
            Some(base) if base.passes => "; the rest passes",
            Some(_) => "; the rest is dropped",
            None => "",
        };
        text.push_str(&format!("{}{end}\n", chain.name));
        for rule in &chain.rules {
            let id = rule.id.as_ref().map(|id| format!("{id}: ")).unwrap_or_default();
            text.push_str(&format!("  {id}{rule}\n"));
        }
    }
    text
}

#[test]
fn the_mended_policy_of_sluice() {
    insta::assert_snapshot!(listing(&lower(&plan(MENDED, "sluice"))));
}

fn rule(text: &str) -> String {
    let text = format!(
        "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
         [[host.sluice.rule]]\nname = \"it\"\n{text}\n"
    );
    let program = lower(&plan(&text, "sluice"));
    let mut rules = program.chains.iter().flat_map(|chain| &chain.rules);
    let mut found = String::new();
    while let Some(rule) = rules.find(|rule| rule.id == Some(RuleId::rule("it"))) {
        found.push_str(&format!("{rule}\n"));
    }
    found
}

#[test]
fn a_rule_becomes_one_for_each_version_and_protocol_that_it_needs() {
    insta::assert_snapshot!(rule("allow = [\"any\"]"), @"allow");
    insta::assert_snapshot!(rule("allow = [\"443/tcp+udp\"]"), @"tcp or udp, to port 443, allow");
    insta::assert_snapshot!(
        rule("allow = [\"443/tcp\"]\nfrom = [\"10.44.8.0/24\"]"),
        @"IPv4, tcp, from 10.44.8.0/24, to port 443, allow"
    );
    insta::assert_snapshot!(
        rule("deny = [\"80/tcp\", \"53/udp\"]\nfrom = [\"10.44.8.0/24\", \"fd44:8::/64\"]"),
        @r"
    IPv4, tcp, from 10.44.8.0/24, to port 80, deny
    IPv6, tcp, from fd44:8::/64, to port 80, deny
    IPv4, udp, from 10.44.8.0/24, to port 53, deny
    IPv6, udp, from fd44:8::/64, to port 53, deny
    "
    );
    insta::assert_snapshot!(rule("deny = [\"icmp\"]"), @r"
    IPv4, icmp, deny
    IPv6, icmpv6, deny
    ");
}

#[test]
fn a_rejection_answers_tcp_with_a_reset_and_the_rest_with_a_prohibition() {
    insta::assert_snapshot!(rule("reject = [\"any\"]"), @r"
    tcp, reject with a reset
    reject as prohibited
    ");
    insta::assert_snapshot!(rule("reject = [\"53/tcp+udp\"]"), @r"
    tcp, to port 53, reject with a reset
    udp, to port 53, reject as prohibited
    ");
}

#[test]
fn a_rate_is_one_limiter_with_a_denial_behind_it() {
    let program = lower(&plan(MENDED, "sluice"));
    let limiter = program.chain("inbound/rule/baseline/ping").expect("there");
    assert!(limiter.base.is_none());
    let actions: Vec<&Action> = limiter.rules.iter().map(|rule| &rule.action).collect();
    assert!(matches!(actions[..], [Action::AllowWithin(_), Action::Deny]), "{actions:?}");
    let counted: Vec<Counted> = limiter.counted().collect();
    assert_eq!(counted, [Counted::Taken, Counted::Excess]);
    assert_eq!(limiter.direction, Some(Direction::Inbound));
    let jumps = program.chains[0]
        .rules
        .iter()
        .filter(|rule| matches!(&rule.action, Action::Jump(name) if *name == limiter.name));
    assert_eq!(jumps.count(), 2, "one for each IP version");
}

#[test]
fn a_rate_per_source_has_a_limiter_for_each_version() {
    insta::assert_snapshot!(rule("allow = [\"2202/tcp\"]\nrate = \"6/minute per source, burst 4\""), @r"
    tcp, to port 2202, go to inbound/rule/it
    IPv4, allow 6/minute per source, burst 4
    IPv6, allow 6/minute per source, burst 4
    IPv4, allow 6/minute per source, burst 4, in crowded places
    IPv6, allow 6/minute per source, burst 4, in crowded places
    deny
    ");
}

#[test]
fn a_paused_rule_is_not_lowered() {
    assert_eq!(rule("allow = [\"443/tcp\"]\npaused = true"), "");
}

/// A policy of one sender for each of twenty /24 networks, with these rules before the eleventh.
fn networks(between: &str) -> RuleProgram {
    let mut text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
        interfaces = { outside = \"eth0\" }\n"
        .to_owned();
    for number in 0..20 {
        if number == 10 {
            text.push_str(between);
        }
        text.push_str(&format!(
            "[[host.sluice.rule]]\nname = \"n{number}\"\nallow = [\"443/tcp\"]\n\
             from = [\"10.44.{number}.0/24\"]\n"
        ));
    }
    let plan = plan(&text, "sluice");
    let program = lower(&plan);
    let mut atlas = Atlas::new();
    assert_eq!(atlas.plan(&plan), atlas.program(&program));
    program
}

/// The rules of the chains for IPv4.
fn for_v4(program: &RuleProgram) -> String {
    let chains = program.chains.iter().filter(|it| it.name.starts_with("inbound/v4"));
    chains
        .map(|it| listing(&RuleProgram { chains: vec![it.clone()], ..RuleProgram::default() }))
        .collect()
}

#[test]
fn networks_of_one_size_are_one_lookup() {
    let program = networks("");
    let first = program.chains.iter().find(|it| it.name == "inbound/v4").expect("it");
    let Action::Choose(lookup) = &first.rules[0].action else { panic!("{first:?}") };
    assert_eq!((first.rules.len(), lookup.entries.len()), (1, 20));
    assert!(lookup.entries.iter().all(|it| it.last.0 - it.first.0 == 255));
}

#[test]
fn an_open_rule_that_tells_more_is_asked_where_later_ones_are() {
    // It may take what later rules would, and only it knows: these ask it first. It is asked of the others behind.
    let contested =
        "[[host.sluice.rule]]\nname = \"through\"\ndeny = [\"443/tcp\"]\ningress = [\"outside\"]\n";
    insta::assert_snapshot!(for_v4(&networks(contested)));
    // What takes other traffic is not.
    let elsewhere = contested.replace("443/tcp", "22/tcp");
    assert_eq!(for_v4(&networks(&elsewhere)).matches("through").count(), 1);
}

#[test]
fn what_takes_much_to_tell_is_told_once() {
    // What twenty open rules take is taken out of a denial of everything, which stands in every block.
    let mut text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n".to_owned();
    let mut rule = |name: String, rest: &str| {
        text.push_str(&format!("[[host.sluice.rule]]\nname = \"{name}\"\n{rest}\n"));
    };
    for number in 0..20 {
        rule(format!("open-{number}"), &format!("allow = [\"{}/tcp\"]", 1_000 + 7 * number));
    }
    rule("all".into(), "deny = [\"any\"]\nfrom = [\"10.44.0.0/16\"]");
    for number in 0..100 {
        let from = format!("from = [\"10.44.{number}.0/24\"]\nto = [\"192.0.2.10\"]");
        rule(format!("n{number}"), &format!("allow = [\"443/tcp\"]\n{from}"));
    }
    let plan = plan(&text, "sluice");
    let program = lower(&plan);
    let mut atlas = Atlas::new();
    assert_eq!(atlas.plan(&plan), atlas.program(&program));
    let all = RuleId::rule("all");
    let told =
        program.chains.iter().flat_map(|it| &it.rules).filter(|it| it.id.as_ref() == Some(&all));
    assert!((1..20).contains(&told.count()), "once for each lookup, not for each network");
}

#[test]
fn no_lookup_is_empty() {
    // What takes every port stands above rules for single ones: nothing is left to look up by port.
    let mut text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n".to_owned();
    let mut rule = |name: String, rest: &str| {
        text.push_str(&format!("[[host.sluice.rule]]\nname = \"{name}\"\n{rest}\n"));
    };
    rule("all".into(), "allow = [\"proto:17\"]");
    for number in 0..30 {
        rule(format!("n{number}"), &format!("deny = [\"{}/udp\"]", 1_000 + number));
    }
    let plan = plan(&text, "sluice");
    let program = lower(&plan);
    let mut atlas = Atlas::new();
    assert_eq!(atlas.plan(&plan), atlas.program(&program));
    for rule in program.chains.iter().flat_map(|it| &it.rules) {
        let Action::Choose(lookup) = &rule.action else { continue };
        assert!(!lookup.entries.is_empty(), "{rule}");
    }
}

#[test]
fn lists_that_find_no_room_are_cut_instead_of_walked() {
    // What is taken out of longer stretches would leave no room for lookups, and packets thousands of rules to walk. Up
    // to 10,000 there is room.
    for (seed, rules, most) in [(1, 10_000, 16), (3, 10_000, 16), (1, 20_000, 400)] {
        let text = Generator::new(seed).grown_policy(rules);
        let policy = read(&Source::new("grown.toml", &text)).expect("good");
        let program = lower(&resolve(&policy, HOST_NAME, NOW).expect("the host"));
        for name in ["inbound/v4", "inbound/v6"] {
            let chain = program.chains.iter().find(|it| it.name == name).expect("it");
            assert!(chain.rules.len() < most, "{name}: {}", chain.rules.len());
        }
        lookups_are_shared(&program);
    }
}

/// Of large lookups no two are alike, and those that were have chains of their own.
fn lookups_are_shared(program: &RuleProgram) {
    let rules =
        || program.chains.iter().flat_map(|chain| chain.rules.iter().map(move |it| (chain, it)));
    let mut seen = HashSet::new();
    for (chain, rule) in rules() {
        if let Action::Choose(lookup) = &rule.action {
            let first = seen.insert((chain.direction, &rule.tests, lookup));
            assert!(first || lookup.entries.len() < 8, "twice, in {}: {rule}", chain.name);
        }
    }
    let shared: Vec<&str> = program
        .chains
        .iter()
        .map(|it| it.name.as_str())
        .filter(|it| it.contains("/shared/"))
        .collect();
    assert!(!shared.is_empty());
    for name in shared {
        let leads = |it: &(&Chain, &ProgramRule)| it.1.action == Action::Jump(name.to_owned());
        assert!(rules().filter(leads).count() > 1, "{name}");
    }
}

/// A chain that no packet comes to is nothing that a policy means, and the kernel is not told of it: of a rate of which
/// the rules before leave nothing.
#[test]
fn no_chain_is_made_that_no_packet_comes_to() {
    let idle = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
        [[host.sluice.rule]]\nname = \"all\"\nallow = [\"any\"]\n\
        [[host.sluice.rule]]\nname = \"some\"\nallow = [\"443/tcp\"]\nrate = \"5/second\"\n";
    let generated = (0..1_000).map(|seed| Generator::new(seed).policy());
    let long = (0..8).map(|seed| Generator::new(seed).grown_policy(400));
    let mut chains = 0;
    for text in generated.chain(long).chain([idle.to_owned()]) {
        let policy = read(&Source::new("it.toml", &text)).expect("good");
        let program = lower(&resolve(&policy, HOST_NAME, NOW).expect("the host"));
        let come_to = program.reached();
        for chain in &program.chains {
            assert!(come_to.contains(chain.name.as_str()), "{} of\\n{text}", chain.name);
            chains += usize::from(chain.base.is_none());
        }
    }
    assert!(chains > 2_000, "{chains}");
}
