//! Text to policy: what is taken over, and what the language supplies.

use crate::given::{INHERITED, MENDED, address, policy};
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Ping, Source, Verdict, read};
use tipstaff_core::space::{Direction, Family, TrafficSet};

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
    assert_eq!(names, ["shell", "catalogue", "nuisance", "copies", "stacks-out"]);
    let catalogue = &sluice.rules[1];
    assert_eq!(catalogue.traffic.to_string(), "80/tcp, 443/tcp+udp");
    assert!(catalogue.from.is_full() && catalogue.to.is_full());
    let copies = &sluice.rules[3];
    assert_eq!((copies.direction, copies.verdict), (Direction::Forwarded, Verdict::Allow));
    assert_eq!(copies.to.to_string(), "10.44.8.20, fd44:8::20");
    assert_eq!(copies.origin.to_string(), "policy.toml:48");
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
    assert_eq!(rule.from.to_string(), "10.44.8.0/24, fd44:8::/64");
    assert!(TrafficSet::any().union(&rule.traffic).is_any());
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
    let error = resolve(&policy, "granery").expect_err("unknown");
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
