//! Labels that bring rules and settings to the hosts that have them.

use crate::given::{address, policy};
use tipstaff_core::policy::{Host, Ping, Source, Used, Verdict, read};
use tipstaff_core::space::Direction;

/// Ahead of the host's own rules or behind them, in the order in which the host has its labels; a label
/// without a section stays a word.
#[test]
fn labels_bring_what_all_hosts_with_them_have() {
    let text = "edition = 1\n\
        [label.edge]\nturned-away = [\"203.0.113.9\"]\n\
        [label.edge.default]\noutbound = \"deny\"\ninbound = \"reject\"\n\
        [label.edge.baseline]\nping = \"deny\"\ndhcp = false\n\
        [[label.edge.rule]]\nname = \"shell\"\nallow = [\"22/tcp\"]\nfrom = [\"!this-host\"]\n\
        [[label.edge.expect]]\ntraffic = [\"5432/tcp\"]\nverdict = \"deny\"\n\
        [label.watched]\nposition = \"behind\"\n\
        [[label.watched.rule]]\nname = \"metrics\"\nallow = [\"9100/tcp\"]\n\
        [host.sluice]\naddresses = [\"192.0.2.10\"]\nlabels = [\"watched\", \"edge\", \"north\"]\n\
        turned-away = [\"198.51.100.7\"]\n[host.sluice.default]\ninbound = \"deny\"\n\
        [host.sluice.baseline]\nping = \"allow\"\n\
        [[host.sluice.rule]]\nname = \"own\"\nallow = [\"80/tcp\"]\n\
        [host.granary]\naddresses = [\"192.0.2.11\"]\nlabels = [\"edge\"]\n";
    let policy = policy(text);
    let [sluice, granary] = &policy.hosts[..] else { panic!("two hosts") };
    let rules: Vec<_> =
        sluice.rules.iter().map(|it| (it.name.as_str(), it.label.as_deref())).collect();
    assert_eq!(rules, [("shell", Some("edge")), ("own", None), ("metrics", Some("watched"))]);
    assert!(!sluice.rules[0].from.addresses().contains(address("192.0.2.10")), "its own");
    assert!(granary.rules[0].from.addresses().contains(address("192.0.2.10")), "another's");
    assert_eq!(sluice.expectations.len(), 1);
    // The host's own word comes first, then the label's, then the language's.
    let verdicts = |host: &Host| Direction::ALL.map(|it| host.defaults.of(it).verdict);
    assert_eq!(verdicts(sluice), [Verdict::Deny, Verdict::Deny, Verdict::Deny]);
    assert_eq!(verdicts(granary), [Verdict::Reject, Verdict::Deny, Verdict::Deny]);
    assert_eq!((sluice.baseline.ping, granary.baseline.ping), (Ping::Allow, Ping::Deny));
    for host in [sluice, granary] {
        assert!(host.baseline.switches.iter().any(|it| (it.0, it.1) == ("dhcp", false)));
    }
    // Who is turned away adds up.
    let away = sluice.turned_away.as_ref().expect("somebody");
    assert_eq!(away.terms, ["198.51.100.7", "203.0.113.9"]);
    assert!(away.addresses.contains(address("203.0.113.9")));
    assert_eq!(granary.turned_away.as_ref().expect("somebody").terms, ["203.0.113.9"]);
    let names: Vec<&str> = policy.labels.iter().map(|it| it.name.as_str()).collect();
    assert_eq!(names, ["edge", "watched"]);
    let uses = policy.uses.iter().filter(|it| it.what == Used::Label);
    assert_eq!(uses.map(|it| it.name.as_str()).collect::<Vec<_>>(), ["watched", "edge", "edge"]);
}

/// What two labels say and the host does not, nobody can know; the host's own word settles it.
#[test]
fn two_labels_that_say_the_same_thing_are_a_mistake_unless_the_host_says_it() {
    let with = |keys: &str, host: &str| {
        let text = format!(
            "edition = 1\n[label.edge]\n{keys}\n[label.watched]\n{keys}\n[host.sluice]\n\
             addresses = [\"192.0.2.10\"]\nlabels = [\"edge\", \"watched\"]\n{host}"
        );
        read(&Source::new("policy.toml", &text))
    };
    for (keys, host, told) in [
        ("default.outbound = \"deny\"", "default.outbound = \"allow\"", "default.outbound"),
        ("baseline.ping = \"deny\"", "baseline.ping = \"allow\"", "baseline.ping"),
        ("baseline.dhcp = false", "baseline.dhcp = true", "baseline.dhcp"),
    ] {
        let problems = with(keys, "").expect_err("nobody knows");
        assert_eq!(problems.len(), 1, "{problems:?}");
        assert_eq!(problems[0].code, "two-labels");
        assert_eq!(
            problems[0].message,
            format!("the labels `edge` and `watched` both set `{told}`")
        );
        assert!(with(keys, host).is_ok());
    }
}

/// What is wrong whatever the host is told once, at the label; what does not fit a host, where it has it.
#[test]
fn a_labels_mistakes_are_told_once() {
    let text = "edition = 1\n[[label.edge.rule]]\nname = \"a\"\nallow = [\"22\"]\n\
        [[label.edge.rule]]\nname = \"b\"\nallow = [\"22/tcp\"]\nat = [\"192.0.2.10\"]\n\
        [host.sluice]\naddresses = [\"192.0.2.10\"]\nlabels = [\"edge\"]\n\
        [[host.sluice.rule]]\nname = \"b\"\nallow = [\"80/tcp\"]\n\
        [host.granary]\naddresses = [\"192.0.2.11\"]\nlabels = [\"edge\"]\n";
    let problems = read(&Source::new("policy.toml", text)).expect_err("mistakes");
    let told: Vec<(&str, usize)> = problems
        .iter()
        .map(|it| (it.code, it.primary.as_ref().expect("a place").origin.line))
        .collect();
    assert_eq!(told, [("no-protocol", 4), ("duplicate-name", 13), ("misfit", 17)]);
    assert!(problems[2].message.starts_with("label `edge` does not fit here: "));
}
