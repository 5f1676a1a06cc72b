//! Findings at their edges: what is just found, and what is just not.

use crate::given::{packet, tcp};
use tipstaff_core::analysis::{Code, Finding, Mend, Subject, review};
use tipstaff_core::generate::NOW;
use tipstaff_core::plan::{RuleId, resolve};
use tipstaff_core::policy::{Severity, Source, Time, read};
use tipstaff_core::space::{Direction, Packet};

const HOST: &str = "edition = 1\n[place.curators]\naddresses = [\"198.51.100.0/27\", \"2001:db8:51::/64\"]\n\
    [place.herbarium]\naddresses = [\"198.51.100.128/28\"]\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n";

fn rule(name: &str, keys: &str) -> String {
    format!("[[host.sluice.rule]]\nname = \"{name}\"\n{keys}\n")
}

fn likely(direction: Direction) -> Packet {
    let (from, to) = match direction {
        Direction::Outbound => ("192.0.2.10", "203.0.113.9"),
        _ => ("203.0.113.9", "192.0.2.10"),
    };
    Packet { direction, ..packet(from, to, tcp(443)) }
}

fn found_at(text: &str, now: Time) -> Vec<Finding> {
    let text = if text.starts_with("edition") { text.to_owned() } else { format!("{HOST}{text}") };
    let policy = read(&Source::new("policy.toml", &text))
        .unwrap_or_else(|problems| panic!("{problems:#?}\n{text}"));
    let plan = resolve(&policy, "sluice", now).expect("the host");
    review(&policy, &plan, now, &likely)
}

fn found(text: &str) -> Vec<Finding> {
    found_at(text, NOW)
}

/// The finding of a kind, if there is one, about whatever.
fn of(text: &str, code: Code) -> Option<Finding> {
    found(text).into_iter().find(|it| it.code == code)
}

fn has(text: &str, code: Code) -> bool {
    of(text, code).is_some()
}

#[test]
fn a_rule_that_ends_within_a_week_is_noted_and_one_that_has_ended_is_warned_of() {
    let ends = |seconds: i64| {
        let until = Time::from_seconds(NOW.seconds() + seconds);
        let text =
            rule("guest", &format!("allow = [\"22/tcp\"]\nfrom = [\"curators\"]\nuntil = {until}"));
        found(&text).into_iter().find(|it| it.code == Code::Expired)
    };
    let week = 7 * 86_400;
    assert_eq!(ends(week), None);
    let soon = ends(week - 1).expect("it ends soon");
    assert_eq!(
        (soon.severity, soon.message.starts_with("ends soon, at 2")),
        (Severity::Note, true)
    );
    assert!(matches!(soon.mend, Some(Mend::Change { key: "until", value: None, .. })));
    assert_eq!(ends(1).expect("a second is left").severity, Severity::Note);
    for over in [0, -1, -week] {
        let ended = ends(over).expect("it has ended");
        assert_eq!(
            (ended.severity, &ended.mend),
            (Severity::Warning, &Some(Mend::Remove(RuleId::rule("guest"))))
        );
        assert!(ended.message.starts_with("has ended, at 2"), "{}", ended.message);
    }
}

#[test]
fn a_burst_of_more_than_a_day_is_odd() {
    for (rate, odd) in [
        ("1/day, burst 1", false),
        ("1/day, burst 2", true),
        ("2/hour, burst 48", false),
        ("2/hour, burst 49", true),
        ("1/minute, burst 1440", false),
        ("1/minute, burst 1441", true),
    ] {
        let text = rule(
            "shell",
            &format!("allow = [\"22/tcp\"]\nfrom = [\"curators\"]\nrate = \"{rate}\""),
        );
        assert_eq!(has(&text, Code::OddRate), odd, "{rate}");
    }
    let one = rule(
        "shell",
        "allow = [\"22/tcp\"]\nfrom = [\"curators\"]\nrate = \"1/second, burst 86401\"",
    );
    let finding = of(&one, Code::OddRate).expect("more than a day");
    assert_eq!(
        finding.message,
        "allows 86401 at once, more than a whole day of its rate (1 in a second) gives"
    );
}

#[test]
fn one_bucket_for_everybody_is_odd_where_anybody_may_come() {
    let of_all =
        |keys: &str| of(&rule("web", &format!("allow = [\"443/tcp\"]\n{keys}")), Code::OddRate);
    let finding = of_all("rate = \"9/second\"").expect("one stranger can use it up");
    assert!(
        matches!(&finding.mend, Some(Mend::Change { key: "rate", value: Some(value), .. }) if value == "9/second per source"),
        "{finding:?}"
    );
    // Anywhere in one version of IP is anywhere.
    assert!(of_all("rate = \"9/second\"\nfrom = [\"0.0.0.0/0\"]").is_some());
    assert!(of_all("rate = \"9/second\"\nfrom = [\"::/0\"]").is_some());
    assert!(of_all("rate = \"9/second\"\nfrom = [\"0.0.0.0/1\"]").is_none());
    assert!(of_all("rate = \"9/second per source\"").is_none());
    assert!(of_all("rate = \"9/second\"\ndirection = \"outbound\"").is_none());
    assert!(of_all("").is_none());
}

#[test]
fn what_half_of_the_world_can_reach_is_open_wide() {
    let open = |keys: &str| of(&rule("store", keys), Code::WideOpen);
    let finding = open("allow = [\"5432/tcp\"]").expect("anybody");
    assert_eq!(
        finding.message,
        "opens ports to nearly everybody that are commonly kept private: databases (5432/tcp)"
    );
    assert!(matches!(finding.mend, Some(Mend::Change { key: "from", value: None, .. })));
    assert!(open("allow = [\"5432/tcp\"]\nfrom = [\"128.0.0.0/1\"]").is_some());
    assert!(open("allow = [\"5432/tcp\"]\nfrom = [\"128.0.0.0/2\", \"192.0.0.0/3\"]").is_none());
    assert!(open("allow = [\"5432/tcp\"]\nfrom = [\"8000::/1\"]").is_some());
    assert!(open("allow = [\"5432/tcp\"]\nfrom = [\"2000::/3\"]").is_none());
    assert!(open("allow = [\"443/tcp\"]").is_none());
    assert!(open("deny = [\"5432/tcp\"]").is_none());
    assert!(open("allow = [\"5432/tcp\"]\ndirection = \"outbound\"").is_none());
    // Several kinds, by both protocols, in one sentence.
    let many = open("allow = [\"9100/tcp\", \"161/udp\", \"3389/tcp+udp\"]").expect("anybody");
    assert!(
        many.message.ends_with(
            "private: remote desktops (3389/tcp+udp), metrics (9100/tcp), management (161/udp)"
        ),
        "{}",
        many.message
    );
    // Not what is denied above.
    let denied = rule("not-they", "deny = [\"5432/tcp\"]\nfrom = [\"0.0.0.0/1\", \"8000::/1\"]");
    assert!(has(&format!("{denied}{}", rule("store", "allow = [\"5432/tcp\"]")), Code::WideOpen));
    let denied = rule(
        "not-they",
        "deny = [\"5432/tcp\"]\nfrom = [\"0.0.0.0/1\", \"128.0.0.0/2\", \"::/0\"]",
    );
    assert!(!has(&format!("{denied}{}", rule("store", "allow = [\"5432/tcp\"]")), Code::WideOpen));
}

#[test]
fn rules_for_addresses_of_another_host_never_match() {
    let never = |keys: &str| of(&rule("copied", keys), Code::NeverHere).map(|it| it.message);
    let inbound = "never matches here: this host has no address that it is for";
    assert_eq!(never("allow = [\"22/tcp\"]\nto = [\"192.0.2.11\"]").as_deref(), Some(inbound));
    assert_eq!(never("allow = [\"22/tcp\"]\nto = [\"192.0.2.10\"]"), None);
    assert_eq!(never("allow = [\"22/tcp\"]\nto = [\"192.0.2.0/24\"]"), None);
    // What is for many comes in as well.
    for many in
        ["224.0.0.251", "239.255.255.255", "255.255.255.255", "ff02::fb", "fe80::10", "febf::1"]
    {
        assert_eq!(never(&format!("allow = [\"5353/udp\"]\nto = [\"{many}\"]")), None, "{many}");
    }
    for nobody in ["223.255.255.255", "240.0.0.1", "fec0::1", "fe7f::1"] {
        let found = never(&format!("allow = [\"5353/udp\"]\nto = [\"{nobody}\"]"));
        assert_eq!(found.as_deref(), Some(inbound), "{nobody}");
    }
    let outbound = |from: &str| {
        never(&format!("allow = [\"53/udp\"]\ndirection = \"outbound\"\nfrom = [\"{from}\"]"))
    };
    let foreign = "never matches here: this host has no address that it comes from";
    for other in ["192.0.2.11", "0.0.0.1", "::2", "fec0::1"] {
        assert_eq!(outbound(other).as_deref(), Some(foreign), "{other}");
    }
    // Before it has one of its own.
    for own in ["192.0.2.10", "2001:db8:2::10", "0.0.0.0", "::", "fe80::10"] {
        assert_eq!(outbound(own), None, "{own}");
    }
    let forwarded = "allow = [\"22/tcp\"]\ndirection = \"forwarded\"\nto = [\"203.0.113.9\"]";
    assert_eq!(never(forwarded), None);
}

#[test]
fn a_place_of_both_versions_that_meets_one_is_told() {
    let one = |keys: &str| of(&rule("shell", keys), Code::OneIpVersion).map(|it| it.message);
    assert_eq!(
        one("allow = [\"22/tcp\"]\nfrom = [\"curators\"]\nto = [\"192.0.2.10\"]").as_deref(),
        Some(
            "serves IPv4 only, although `curators` is named for both IP versions: over IPv6, it matches nothing"
        )
    );
    let v6 = one("allow = [\"22/tcp\"]\nfrom = [\"curators\"]\nto = [\"2001:db8:2::10\"]");
    assert!(v6.is_some_and(|it| it.starts_with("serves IPv6 only")));
    assert_eq!(one("allow = [\"22/tcp\"]\nfrom = [\"curators\"]"), None);
    // The place has one version only, or no place is named.
    assert_eq!(one("allow = [\"22/tcp\"]\nfrom = [\"herbarium\"]"), None);
    assert_eq!(one("allow = [\"22/tcp\"]\nfrom = [\"198.51.100.0/27\"]"), None);
}

#[test]
fn an_expectation_fails_for_its_own_packets_only() {
    let expect = |rules: &str, keys: &str| {
        let text = format!("{rules}[[host.sluice.expect]]\n{keys}\n");
        of(&text, Code::ExpectationFailed).map(|it| it.message)
    };
    let shell = rule("shell", "allow = [\"22/tcp\"]\nfrom = [\"curators\"]");
    let nobody = "traffic = [\"22/tcp\"]\nverdict = \"deny\"";
    assert_eq!(
        expect(&shell, nobody).as_deref(),
        Some(
            "expected deny for inbound 22/tcp from anywhere, but it is allow for a part of it, by `shell`"
        )
    );
    assert_eq!(expect("", nobody), None);
    // Others than whom the rule is for; another port; another direction; another address of the host.
    assert_eq!(expect(&shell, &format!("{nobody}\nfrom = [\"herbarium\"]")), None);
    assert_eq!(expect(&shell, "traffic = [\"23/tcp\"]\nverdict = \"deny\""), None);
    assert_eq!(
        expect(&shell, "traffic = [\"22/tcp\"]\nverdict = \"allow\"\ndirection = \"outbound\""),
        None
    );
    let narrow = rule("shell", "allow = [\"22/tcp\"]\nto = [\"192.0.2.10\"]");
    assert!(expect(&narrow, &format!("{nobody}\nto = [\"192.0.2.10\"]")).is_some());
    assert_eq!(expect(&narrow, &format!("{nobody}\nto = [\"2001:db8:2::10\"]")), None);
    // A limited rule allows; a denial is no rejection.
    let limited = rule("shell", "allow = [\"22/tcp\"]\nrate = \"9/minute per source\"");
    assert_eq!(expect(&limited, "traffic = [\"22/tcp\"]\nverdict = \"allow\""), None);
    assert!(expect("", "traffic = [\"22/tcp\"]\nverdict = \"reject\"").is_some());
    let reject = rule("shell", "reject = [\"22/tcp\"]");
    assert_eq!(expect(&reject, "traffic = [\"22/tcp\"]\nverdict = \"reject\""), None);
    // By which interface.
    let roles = HOST.replace(
        "[host.sluice]\n",
        "[host.sluice]\ninterfaces = { outside = \"eth0\", stacks = \"eth1\" }\n",
    );
    let inside = rule("shell", "allow = [\"22/tcp\"]\ningress = [\"stacks\"]");
    let by = |ingress: &str| {
        let text =
            format!("{roles}{inside}[[host.sluice.expect]]\n{nobody}\ningress = [\"{ingress}\"]\n");
        has(&text, Code::ExpectationFailed)
    };
    assert!(by("stacks") && !by("outside"));
}

#[test]
fn a_shell_that_somebody_can_reach_is_no_lockout() {
    let host =
        HOST.replace("[host.sluice]\n", "[host.sluice]\nshell = [\"2202/tcp\", \"22/tcp\"]\n");
    let shut = |rules: &str| of(&format!("{host}{rules}"), Code::ShellLockout);
    let finding = shut("").expect("nobody can");
    assert_eq!(
        finding.message,
        "no address can reach the remote shell (2202/tcp, 22/tcp) of `sluice`"
    );
    assert_eq!(finding.severity, Severity::Error);
    assert!(finding.mend.is_some() && finding.others.is_empty());
    // A rule would come too late where everybody is turned away.
    let away = host.replace("shell =", "turned-away = [\"anywhere\"]\nshell =");
    let finding = of(&away, Code::ShellLockout).expect("nobody can");
    assert_eq!((finding.mend, finding.others), (None, vec![RuleId::baseline("turned-away")]));
    assert_eq!(shut(&rule("shell", "allow = [\"22/tcp\"]\nfrom = [\"198.51.100.7\"]")), None);
    assert_eq!(shut(&rule("shell", "allow = [\"22/tcp\"]\nrate = \"9/minute per source\"")), None);
    assert!(shut(&rule("shell", "allow = [\"22/udp\"]")).is_some());
    assert!(shut(&rule("shell", "reject = [\"22/tcp\"]")).is_some());
    assert!(shut(&rule("shell", "allow = [\"22/tcp\"]\npaused = true")).is_some());
}

#[test]
fn names_that_nothing_uses_are_noted() {
    let unused = |text: &str| -> Vec<String> {
        let all = found(text).into_iter().filter(|it| it.code == Code::UnusedName);
        all.map(|it| format!("{} {:?}", it.message, it.mend.is_some())).collect()
    };
    assert_eq!(
        unused(&rule("shell", "allow = [\"22/tcp\"]\nfrom = [\"curators\"]")),
        ["nothing uses the place `herbarium` true"]
    );
    let all = format!(
        "{HOST}[service.labels]\nports = [\"9101/tcp\"]\n[[bundle.usual.rule]]\nname = \"copies\"\n\
         allow = [\"873/tcp\"]\nfrom = [\"herbarium\"]\n"
    );
    let found = unused(&all);
    assert!(found.contains(&"nothing uses the service `labels` true".to_owned()), "{found:?}");
    assert!(found.contains(&"nothing uses the bundle `usual` false".to_owned()), "{found:?}");
    assert!(found.contains(&"nothing uses the place `curators` true".to_owned()), "{found:?}");
    // A place within a bundle is used, whoever uses that.
    assert!(!found.iter().any(|it| it.contains("herbarium")), "{found:?}");
}

#[test]
fn a_rule_below_one_that_decides_already_is_found_out_with_its_mend() {
    let wide = rule("catalogue", "allow = [\"443/tcp\"]");
    let narrow = rule("nuisance", "deny = [\"443/tcp\"]\nfrom = [\"herbarium\"]");
    let finding = of(&format!("{wide}{narrow}"), Code::Shadowed).expect("it never decides");
    assert_eq!(
        finding.message,
        "never decides anything: all that it would deny is decided above by `catalogue`; some of it is allowed there"
    );
    let before = Mend::Move { rule: RuleId::rule("nuisance"), before: RuleId::rule("catalogue") };
    assert_eq!(finding.mend, Some(before));
    // The other way round each does something.
    assert!(!has(&format!("{narrow}{wide}"), Code::Shadowed));
    // By two together; of one verdict, it can only go.
    let halves = rule("one", "allow = [\"443/tcp\"]\nfrom = [\"0.0.0.0/1\", \"::/1\"]")
        + &rule("two", "allow = [\"443/tcp\"]\nfrom = [\"128.0.0.0/1\", \"8000::/1\"]");
    let finding = of(&format!("{halves}{wide}"), Code::Shadowed).expect("it never decides");
    assert_eq!(
        finding.message,
        "never decides anything: all that it would allow is decided above by `one` and `two` together"
    );
    assert_eq!(finding.mend, Some(Mend::Remove(RuleId::rule("catalogue"))));
}

#[test]
fn a_rule_that_changes_nothing_can_go() {
    let like_default = rule("no-telnet", "deny = [\"23/tcp\"]");
    let finding = of(&like_default, Code::SameAsDefault).expect("the default does it");
    assert_eq!(
        (finding.severity, finding.message.as_str()),
        (Severity::Note, "does what the default does anyway: deny")
    );
    let twice = rule("curators", "allow = [\"443/tcp\"]\nfrom = [\"curators\"]")
        + &rule("web", "allow = [\"443/tcp\"]");
    let finding = of(&twice, Code::Redundant).expect("the one below does it");
    assert_eq!(
        finding.message,
        "could go: without it, every packet would fare the same, since what it takes is decided alike below, by `web`"
    );
    // What it reports or limits would be missed.
    for keys in ["log = true", "rate = \"9/second per source\""] {
        let text =
            rule("curators", &format!("allow = [\"443/tcp\"]\nfrom = [\"curators\"]\n{keys}"))
                + &rule("web", "allow = [\"443/tcp\"]");
        assert!(!has(&text, Code::Redundant), "{keys}");
    }
    // Something in between would take a part of it.
    let between = rule("curators", "allow = [\"443/tcp\"]\nfrom = [\"curators\"]")
        + &rule("not-he", "deny = [\"any\"]\nfrom = [\"198.51.100.7\"]")
        + &rule("web", "allow = [\"443/tcp\"]");
    assert!(!has(&between, Code::Redundant));
    // A rejection is not a denial.
    assert!(!has(&rule("no-telnet", "reject = [\"23/tcp\"]"), Code::SameAsDefault));
}

#[test]
fn what_is_overruled_in_part_is_told_unless_it_is_an_exception() {
    let web = rule("web", "allow = [\"80/tcp\", \"443/tcp\"]\nfrom = [\"0.0.0.0/1\", \"::/0\"]");
    let nuisance = rule("nuisance", "deny = [\"443/tcp\", \"22/tcp\"]\nfrom = [\"0.0.0.0/0\"]");
    let finding = of(&format!("{web}{nuisance}"), Code::Overlap).expect("a part gets in");
    assert_eq!(finding.severity, Severity::Warning);
    assert_eq!(
        finding.message,
        "a part of what it would deny is allowed all the same: `web` above it decides that part"
    );
    // An allowance that is cut short is only noted.
    let finding = of(&format!("{nuisance}{web}"), Code::Overlap).expect("a part stays out");
    assert_eq!((finding.severity, finding.mend), (Severity::Note, None));
    // An exception lies wholly within what follows.
    let exception = rule("but-they", "allow = [\"443/tcp\"]\nfrom = [\"198.51.100.0/27\"]");
    assert!(!has(&format!("{exception}{nuisance}"), Code::Overlap));
}

/// What comes in and has no socket belongs to no program; what goes out was sent by one.
#[test]
fn programs_are_named_where_there_are_sockets() {
    let never = |keys: &str| {
        let text = rule("gauge", &format!("{keys}\nprogram = \"/srv/tidegauge\""));
        has(&text, Code::ProgramNeverMatches)
    };
    assert!(never("allow = [\"icmp\"]") && never("allow = [\"proto:47\"]"));
    assert!(!never("allow = [\"icmp\", \"5353/udp\"]") && !never("allow = [\"any\"]"));
    assert!(!never("allow = [\"icmp\"]\ndirection = \"outbound\""));
    assert!(!never("allow = [\"icmp\"]\npaused = true"));
    let replies = |keys: &str| {
        let gauge = "allow = [\"5353/udp\"]\nprogram = \"/srv/tidegauge\"";
        let text = format!("[host.sluice.baseline]\nreplies = {keys}\n{}", rule("gauge", gauge));
        of(&text, Code::ProgramNeedsReplies).map(|it| it.others)
    };
    assert_eq!(replies("false"), Some(vec![RuleId::rule("gauge")]));
    assert_eq!(replies("true"), None);
}

/// A rule with several conditions has those above it and those below it told apart all the same.
#[test]
fn rules_by_several_interfaces_are_held_against_each_other_in_order() {
    let by = "ingress = [\"eth0\", \"eth1\"]";
    let deny =
        |name: &str| rule(name, &format!("deny = [\"22/tcp\"]\nfrom = [\"curators\"]\n{by}"));
    let allow = rule("shell", &format!("allow = [\"22/tcp\"]\n{by}"));
    let above = found(&format!("{}{allow}{}", deny("first"), deny("last")));
    let shadowed: Vec<_> = above.iter().filter(|it| it.code == Code::Shadowed).collect();
    assert_eq!(shadowed.len(), 1, "{above:?}");
    assert_eq!(shadowed[0].subject, Subject::Rule(RuleId::rule("last")));
    assert_eq!(shadowed[0].others, [RuleId::rule("first")]);
    assert!(of(&format!("{allow}{}", deny("last")), Code::Shadowed).is_some());
    assert_eq!(of(&format!("{}{allow}", deny("first")), Code::Shadowed), None);
}

#[test]
fn the_loopback_addresses_are_those_of_the_standards() {
    let all = tipstaff_core::space::loopback();
    assert_eq!(all.to_string(), "127.0.0.0/8, ::1");
}
