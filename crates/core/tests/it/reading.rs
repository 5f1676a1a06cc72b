//! Text to policy: what is taken over, and what the language supplies.

use crate::given::{INHERITED, MENDED, address, packet, policy, udp};
use tipstaff_core::generate::NOW;
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Ping, Source, Verdict, read};
use tipstaff_core::space::{Direction, Family, PortProtocol, RangeSet, TrafficSet, Transport};

#[test]
fn the_demos_policies_are_read_whole() {
    for text in [INHERITED, MENDED] {
        let policy = policy(text);
        assert_eq!(policy.places.len(), 4);
        let hosts: Vec<&str> = policy.hosts.iter().map(|host| host.name.as_str()).collect();
        assert_eq!(hosts, ["sluice", "granary", "bench"]);
    }
    let inherited = policy(INHERITED);
    let sluice = inherited.host("sluice").expect("there");
    let names: Vec<&str> = sluice.rules.iter().map(|rule| rule.name.as_str()).collect();
    assert_eq!(names, ["shell", "catalogue", "reading-room", "nuisance", "copies", "stacks-out"]);
    let catalogue = &sluice.rules[1];
    assert_eq!(catalogue.traffic.to_string(), "80/tcp, 443/tcp+udp");
    assert!(catalogue.from.is_full() && catalogue.to.is_full());
    let copies = &sluice.rules[4];
    assert_eq!((copies.direction, copies.verdict), (Direction::Forwarded, Verdict::Allow));
    assert_eq!(copies.to.addresses().to_string(), "10.44.8.20, fd44:8::20");
    assert_eq!(copies.origin.to_string(), "policy.toml:56");
    let herbarium = inherited.place("herbarium").expect("there");
    assert_eq!(herbarium.addresses.first(Family::V6), Some(address("2001:db8:be::")));
}

#[test]
fn what_is_left_out_is_safe() {
    let policy = policy("edition = 1\n[host.bench]\naddresses = [\"10.44.8.30\"]\n");
    let bench = policy.host("bench").expect("there");
    let defaults = Direction::ALL.map(|direction| bench.defaults.of(direction).verdict);
    assert_eq!(defaults, [Verdict::Deny, Verdict::Allow, Verdict::Deny]);
    assert!(Direction::ALL.iter().all(|it| bench.defaults.of(*it).origin.is_none()));
    assert!(matches!(bench.baseline.ping, Ping::Rate(rate) if rate.to_string() == "5/second"));
    assert!(bench.rules.is_empty());
}

#[test]
fn terms_of_a_list_add_up() {
    let text = "edition = 1\n[host.bench]\naddresses = [\"10.44.8.30\"]\n[[host.bench.rule]]\n\
                name = \"all\"\nallow = [\"80/tcp\", \"81-90/tcp\", \"85/udp\", \"icmp\"]\n\
                from = [\"10.44.8.0/25\", \"10.44.8.128/25\", \"fd44:8::/64\"]\n";
    let rule = &policy(text).hosts[0].rules[0];
    assert_eq!(rule.traffic.to_string(), "80-84/tcp, 86-90/tcp, 85/tcp+udp, icmp");
    assert_eq!(rule.from.addresses().to_string(), "10.44.8.0/24, fd44:8::/64");
    assert!(TrafficSet::any().union(&rule.traffic).is_any());
}

#[test]
fn sctp_has_ports_like_tcp_and_udp() {
    let policy = |terms: &str, more: &str| {
        policy(&format!(
            "edition = 1\n[host.bench]\naddresses = [\"10.44.8.30\"]\n[[host.bench.rule]]\n\
             name = \"all\"\nallow = [{terms}]\n{more}"
        ))
    };
    let traffic = |terms: &str| policy(terms, "").hosts[0].rules[0].traffic.clone();
    let some = traffic("\"3868/sctp\", \"3868/tcp\", \"53/tcp+udp\", \"7-9/tcp+udp+sctp\"");
    assert_eq!(some.to_string(), "53/tcp+udp, 3868/tcp+sctp, 7-9/tcp+udp+sctp");
    // The protocol by its number is the same, at every port.
    assert_eq!(traffic("\"proto:132\""), PortProtocol::Sctp.traffic(RangeSet::full()));
    assert_eq!(traffic("\"diameter\"").to_string(), "3868/tcp+sctp");
    let rest = TrafficSet::any().difference(&traffic("\"1-65535/sctp\""));
    assert!(rest.to_string().starts_with("1-65535/tcp+udp, 0/tcp+udp+sctp, "), "{rest}");
    let narrowed = policy("\"3868/sctp\"", "source-ports = [\"3868\"]\n");
    assert_eq!(narrowed.hosts[0].rules[0].source_ports.to_string(), "3868");
}

#[test]
fn line_ends_and_comments_do_not_move_places() {
    let unix = "# a comment\nedition = 1\n\n[host.bench]\naddresses = [\"10.44.8.300\"]\n";
    for text in [
        unix.to_owned(),
        unix.replace('\n', "\r\n"),
        unix.replace('a', "ä").replace("äddresses", "addresses"),
    ] {
        let problems = read(&Source::new("policy.toml", &text)).expect_err("a mistake");
        let [problem] = &problems[..] else { panic!("{problems:#?}") };
        let place = problem.primary.as_ref().expect("a place");
        assert_eq!(place.origin.line, 5);
        assert_eq!(&text[place.origin.span.clone()], "10.44.8.300");
    }
}

#[test]
fn every_mistake_is_found_in_one_run_in_the_order_of_the_text() {
    let text = "edition = 9\n[place.x]\naddresses = [\"a\", \"b\"]\n[host.bench]\naddresses = []\n\
                [[host.bench.rule]]\nname = \"r\"\nallow = [\"1\", \"2/x\", \"0/udp\"]\n";
    let problems = read(&Source::new("policy.toml", text)).expect_err("mistakes");
    let codes: Vec<&str> = problems.iter().map(|problem| problem.code).collect();
    assert_eq!(
        codes,
        [
            "edition",
            "bad-address",
            "bad-address",
            "empty-list",
            "no-protocol",
            "unknown-protocol",
            "bad-port",
        ]
    );
}

#[test]
fn a_host_that_is_not_there_is_answered_with_a_near_one() {
    let policy = policy(MENDED);
    let error = resolve(&policy, "granery", NOW).expect_err("unknown");
    assert_eq!(error.near.as_deref(), Some("granary"));
    assert_eq!(error.known, ["sluice", "granary", "bench"]);
}

#[test]
fn any_text_ends_in_a_policy_or_in_mistakes() {
    use tipstaff_core::generate::Generator;
    let mut generator = Generator::new(7);
    // Valid policies with letters changed, dropped and doubled.
    for _ in 0..2_000 {
        let mut text: Vec<char> = generator.policy().chars().collect();
        for _ in 0..1 + generator.below(4) {
            let at = generator.below(text.len());
            match generator.below(3) {
                0 => {
                    let letter = u8::try_from(generator.below(95)).expect("small");
                    text[at] = char::from(b' ' + letter);
                }
                1 => drop(text.remove(at)),
                _ => text.insert(at, text[at]),
            }
        }
        let text: String = text.into_iter().collect();
        if let Err(problems) = read(&Source::new("policy.toml", &text)) {
            assert!(!problems.is_empty());
            for problem in problems {
                let spans = problem.primary.iter().chain(&problem.context);
                assert!(spans.into_iter().all(|it| text.get(it.origin.span.clone()).is_some()));
            }
        }
    }
}

#[test]
fn lists_of_addresses_add_up_and_leave_out() {
    let from = |list: &str| {
        let text = format!(
            "edition = 1\n[place.stacks]\naddresses = [\"10.44.8.0/24\", \"fd44:8::/64\"]\n\
             [host.bench]\naddresses = [\"10.44.8.30\", \"fd44:8::30\"]\n[[host.bench.rule]]\n\
             name = \"it\"\nallow = [\"any\"]\nfrom = [{list}]\n"
        );
        policy(&text).hosts[0].rules[0].from.addresses()
    };
    assert_eq!(from("\"10.44.8.20-10.44.8.23\"").to_string(), "10.44.8.20/30");
    assert_eq!(from("\"stacks\", \"!10.44.8.128/25\"").to_string(), "10.44.8.0/25, fd44:8::/64");
    assert_eq!(from("\"this-host\"").to_string(), "10.44.8.30, fd44:8::30");
    let all_but = from("\"!stacks\", \"!this-host\"");
    assert!(!all_but.contains(address("10.44.8.1")) && all_but.contains(address("10.44.9.1")));
    assert!(!all_but.contains(address("fd44:8::1")) && all_but.contains(address("2001:db8::1")));
    let private = from("\"private\"");
    for (text, expected) in [
        ("10.1.2.3", true),
        ("172.31.255.255", true),
        ("172.32.0.0", false),
        ("100.64.0.1", true),
        ("169.254.7.7", true),
        ("fd44:8::1", true),
        ("fe80::1", true),
        ("2001:db8::1", false),
    ] {
        assert_eq!(private.contains(address(text)), expected, "{text}");
    }
}

#[test]
fn kinds_of_traffic_are_named_by_meaning() {
    let traffic = |term: &str| {
        let text = format!(
            "edition = 1\n[host.bench]\naddresses = [\"10.44.8.30\"]\n[[host.bench.rule]]\n\
             name = \"it\"\nallow = [\"{term}\"]\n"
        );
        policy(&text).hosts[0].rules[0].traffic.clone()
    };
    assert_eq!(traffic("icmp:echo-request").to_string(), "icmp:echo-request");
    assert_eq!(traffic("icmp:packet-too-big").to_string(), "icmp:packet-too-big");
    assert_eq!(traffic("igmp"), traffic("proto:2"));
    assert_eq!(traffic("proto:6").to_string(), "0-65535/tcp");
    assert_eq!(traffic("proto:47").to_string(), "proto:47");
}

#[test]
fn both_addresses_of_a_point_to_point_link_are_hosts() {
    for address in ["10.99.0.2/31", "10.99.0.3/31", "fd99::2/127", "10.99.0.2/32", "fd99::2/128"] {
        let text = format!("edition = 1\n[host.bench]\naddresses = [\"{address}\"]\n");
        let policy = policy(&text);
        let written = address.split('/').next().expect("an address");
        assert_eq!(policy.hosts[0].addresses[0].to_string(), written);
    }
    let text = "edition = 1\n[host.bench]\naddresses = [\"10.99.0.2/30\", \"10.99.0.0/30\"]\n";
    let problems = read(&Source::new("policy.toml", text)).expect_err("a network");
    assert_eq!(problems.len(), 1);
}

#[test]
fn an_expectation_about_all_but_some_is_not_about_loopback_addresses() {
    let text = "edition = 1\n[place.nuisance]\naddresses = [\"203.0.113.64/28\"]\n[host.sluice]\n\
        addresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n[[host.sluice.rule]]\n\
        name = \"catalogue\"\nallow = [\"443/tcp\"]\nfrom = [\"!nuisance\"]\n\
        [[host.sluice.expect]]\ntraffic = [\"443/tcp\"]\nfrom = [\"!nuisance\"]\nverdict = \"allow\"\n";
    let policy = policy(text);
    let plan = resolve(&policy, "sluice", NOW).expect("the host");
    let expectations = &policy.hosts[0].expectations;
    assert_eq!(expectations.len(), 1);
    assert!(tipstaff_core::analysis::failing(&plan, expectations).is_empty());
}

/// What docs/LANGUAGE.md says of terms that one version has, or of packets without ports.
#[test]
fn what_a_term_does_not_mean_is_as_the_language_says() {
    let plan = |keys: &str| {
        crate::given::plan(
            &format!(
                "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10/32\", \"2001:db8:2::10/64\"]\n\
                 [[host.sluice.rule]]\nname = \"r\"\n{keys}\n"
            ),
            "sluice",
        )
    };
    let takes = |keys: &str, from: &str, transport| {
        let to = if from.contains(':') { "2001:db8:2::10" } else { "192.0.2.10" };
        let decided = plan(keys).evaluate(&packet(from, to, transport));
        decided.by.to_string() == "r"
    };
    let (v4, v6) = ("203.0.113.9", "2001:db8:bad::9");
    let number = |protocol| Transport::Other { protocol };
    let igmp = "allow = [\"igmp\"]";
    assert!(takes(igmp, v4, number(2)) && takes(igmp, v6, number(2)));
    let big = "allow = [\"icmp:packet-too-big\"]";
    assert!(takes(big, v6, Transport::Icmp { kind: 2 }));
    assert!((0..=255).all(|kind| !takes(big, v4, Transport::Icmp { kind })));
    let ports = "allow = [\"any\"]\nsource-ports = [\"1-65535\"]";
    assert!(takes(ports, v4, udp(1, 7)) && !takes(ports, v4, number(47)));
    assert!(!takes(ports, v6, Transport::Icmp { kind: 1 }));
    // An address with all bits as its prefix is on no network; with IPv6, link-local ones are near.
    let near = "allow = [\"7/udp\"]\nfrom = [\"on-link\"]";
    assert!(!takes(near, "192.0.2.10", udp(1, 7)) && !takes(near, v4, udp(1, 7)));
    assert!(takes(near, "2001:db8:2::77", udp(1, 7)) && takes(near, "fe80::9", udp(1, 7)));
}
