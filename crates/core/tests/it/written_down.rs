//! Programs and what they are made of, written down as JSON and read again.

use crate::given::{packet, tcp};
use tipstaff_core::generate::{Generator, HOST_NAME, NOW};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Source, Verdict, read};
use tipstaff_core::program::{Action, BaseChain, Key, RuleProgram, Test, lower};
use tipstaff_core::space::{AddressSet, HardwareAddress, RangeSet, Transport};

fn lowered(text: &str) -> RuleProgram {
    let policy = read(&Source::new("generated.toml", text)).expect("a policy");
    lower(&resolve(&policy, HOST_NAME, NOW).expect("the host is there"))
}

fn keys(program: &RuleProgram) -> impl Iterator<Item = Key> {
    program.chains.iter().flat_map(|it| &it.rules).filter_map(|it| match &it.action {
        Action::Choose(lookup) => Some(lookup.key),
        _ => None,
    })
}

#[test]
fn programs_are_the_same_when_they_are_read_again() {
    let mut texts: Vec<String> = (0..60).map(|seed| Generator::new(seed).policy()).collect();
    texts.extend((0..20).map(|seed| Generator::new(seed).crowded().policy()));
    texts.extend((0..3).map(|seed| Generator::new(seed).long_policy(300)));
    texts.extend((0..3).map(|seed| Generator::new(seed).grown_policy(300)));
    let mut looked_up = std::collections::HashSet::new();
    for text in texts {
        let program = lowered(&text);
        looked_up.extend(keys(&program));
        let written = serde_json::to_string(&program).expect("it can be written down");
        let again: RuleProgram = serde_json::from_str(&written).expect("it can be read");
        assert_eq!(again, program, "{text}");
    }
    // Lookups of all sorts were among them.
    let sorts = |it: &dyn Fn(&Key) -> bool| looked_up.iter().any(it);
    assert!(sorts(&|it| matches!(it, Key::Source(_))), "{looked_up:?}");
    assert!(sorts(&|it| matches!(it, Key::SourceService(_))), "{looked_up:?}");
    assert!(sorts(&|it| matches!(it, Key::DestinationPort)), "{looked_up:?}");
}

/// People read what is written down: addresses stand there as networks, names as names.
#[test]
fn what_is_written_down_reads_well() {
    let text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
                [[host.sluice.rule]]\nname = \"curators\"\nallow = [\"22/tcp\"]\n\
                from = [\"198.51.100.0/27\", \"2001:db8:51::/64\"]\nrate = \"6/minute per source\"\n\
                until = \"2126-12-24T18:00:00Z\"\n";
    let policy = read(&Source::new("policy.toml", text)).expect("a policy");
    let program = lower(&resolve(&policy, "sluice", NOW).expect("the host is there"));
    let rules = program.chains.iter().flat_map(|it| &it.rules);
    let its: Vec<_> =
        rules.filter(|it| it.id.as_ref().is_some_and(|id| id.to_string() == "curators")).collect();
    insta::assert_json_snapshot!(its);
}

/// As people see it beside a rule: a few entries, and how many more there are.
#[test]
fn lookups_are_told_in_a_line() {
    let policy = |senders: &[&str]| {
        let mut text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n".to_owned();
        for (at, sender) in senders.iter().enumerate() {
            text += &format!(
                "[[host.sluice.rule]]\nname = \"r{at}\"\ndeny = [\"any\"]\nfrom = [\"{sender}\"]\n"
            );
        }
        let policy = read(&Source::new("policy.toml", &text)).expect("a policy");
        lower(&resolve(&policy, "sluice", NOW).expect("the host is there"))
    };
    let told = |program: &RuleProgram| -> Vec<String> {
        let rules = program.chains.iter().flat_map(|it| &it.rules);
        let lookups = rules.filter(|it| matches!(it.action, Action::Choose(_)));
        lookups.map(|it| it.action.to_string()).collect()
    };
    let all: Vec<String> = (1..=12).map(|it| format!("10.44.8.{it}")).collect();
    let all: Vec<&str> = all.iter().map(String::as_str).collect();
    let twelve = told(&policy(&all));
    assert_eq!(
        twelve,
        ["look up the sender: 10.44.8.1 deny (r0), 10.44.8.2 deny (r1), 10.44.8.3 deny (r2), \
          10.44.8.4 deny (r3), 8 more"]
    );
}

/// What a packet has not, no test of it holds.
#[test]
fn tests_ask_for_what_a_packet_has() {
    let tcp = packet("203.0.113.9", "192.0.2.10", tcp(443));
    let ping = packet("203.0.113.9", "192.0.2.10", Transport::Icmp { kind: 8 });
    let ports = || RangeSet::from_ranges([(0, u16::MAX)]);
    for (test, of_tcp, of_ping) in [
        (Test::IcmpType(RangeSet::full()), false, true),
        (Test::IcmpType(RangeSet::single(0)), false, false),
        (Test::SourcePort(ports()), true, false),
        (Test::DestinationPort(ports()), true, false),
        (Test::Program(vec!["/srv/tidegauge".into()]), false, false),
    ] {
        assert_eq!((test.holds(&tcp), test.holds(&ping)), (Some(of_tcp), Some(of_ping)), "{test}");
    }
}

#[test]
fn what_makes_no_sense_is_refused() {
    let set = |text: &str| serde_json::from_str::<AddressSet>(text);
    assert_eq!(set("[]").expect("none"), AddressSet::empty());
    assert_eq!(set("[\"0.0.0.0/0\", \"::/0\"]").expect("all"), AddressSet::full());
    let error = set("[\"198.51.100.9/27\"]").expect_err("host bits").to_string();
    assert!(error.contains("`198.51.100.9/27` is no network"), "{error}");
    assert!(serde_json::from_str::<HardwareAddress>("\"52:54:00:12:34\"").is_err());
    // Ranges come in any order.
    let ports: RangeSet<u16> =
        serde_json::from_str("[[443, 443], [22, 22], [23, 25]]").expect("ports");
    assert_eq!(ports.ranges(), [(22, 25), (443, 443)]);
    let lookup = |entry: &str| {
        let text = format!(
            "{{\"id\": null, \"tests\": [], \"action\": {{\"choose\": {{\"key\": {{\"source\": \"v4\"}}, \
             \"entries\": [{entry}]}}}}}}"
        );
        serde_json::from_str::<tipstaff_core::program::ProgramRule>(&text)
    };
    assert!(lookup("{\"addresses\": [\"192.0.2.0/24\"], \"then\": {\"allow\": \"web\"}}").is_ok());
    for (entry, word) in [
        ("{\"numbers\": [1, 2], \"then\": {\"allow\": \"web\"}}", "does not fit the key"),
        (
            "{\"addresses\": [\"2001:db8::/64\"], \"then\": {\"allow\": \"web\"}}",
            "other IP version",
        ),
        (
            "{\"addresses\": [\"192.0.2.0/24\"], \"then\": {\"welcome\": \"web\"}}",
            "unknown variant",
        ),
    ] {
        let error = lookup(entry).expect_err(entry).to_string();
        assert!(error.contains(word), "{error}");
    }
}

/// Addresses that lay side by side, and do not any more: what was one entry is several, in their order.
#[test]
fn an_entry_can_fall_apart() {
    let text = "{\"key\": {\"source\": \"v4\"}, \"entries\": [\
                {\"addresses\": [\"203.0.113.0/25\", \"198.51.100.0/25\"], \"then\": {\"deny\": \"nuisance\"}}, \
                {\"addresses\": [\"192.0.2.0/25\"], \"then\": {\"allow\": \"web\"}}]}";
    let rule = format!("{{\"id\": null, \"tests\": [], \"action\": {{\"choose\": {text}}}}}");
    let rule: tipstaff_core::program::ProgramRule = serde_json::from_str(&rule).expect("a rule");
    let Action::Choose(lookup) = rule.action else { panic!("{rule:?}") };
    let firsts: Vec<u128> = lookup.entries.iter().map(|it| it.first.0).collect();
    let number = |it: [u8; 4]| u128::from(u32::from_be_bytes(it));
    assert_eq!(
        firsts,
        [number([192, 0, 2, 0]), number([198, 51, 100, 0]), number([203, 0, 113, 0])]
    );
}

/// Where no rule of a chain decides, the chain itself does; where there is none for the direction, nobody.
#[test]
fn what_no_rule_takes_the_chain_decides() {
    let tcp = packet("203.0.113.9", "192.0.2.10", tcp(443));
    for (passes, verdict) in [(true, Verdict::Allow), (false, Verdict::Deny)] {
        let mut program = lowered("edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n");
        for chain in program.chains.iter_mut().filter(|it| it.base.is_some()) {
            chain.base = Some(BaseChain { passes });
            chain.rules.clear();
        }
        let decided = program.evaluate(&tcp).expect("it is known");
        assert_eq!(
            (decided.verdict, decided.by.to_string().as_str()),
            (verdict, "default/inbound")
        );
        program.chains.clear();
        assert!(program.evaluate(&tcp).is_none());
    }
}
