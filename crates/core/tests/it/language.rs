//! What the page about the language says in passing.

use crate::given::{address, packet, policy, tcp};
use tipstaff_core::analysis::{Code, review};
use tipstaff_core::generate::NOW;
use tipstaff_core::plan::{HostPlan, resolve};
use tipstaff_core::space::{Direction, Packet, Relation};

const HOST: &str = "edition = 1\n[host.bench]\naddresses = [\"192.0.2.10\", \"192.0.2.11\"]\n";

fn plan(text: &str) -> HostPlan {
    resolve(&policy(text), "bench", NOW).expect("the host")
}

fn rule(keys: &str) -> String {
    format!("{HOST}[[host.bench.rule]]\nname = \"it\"\n{keys}\n")
}

fn by(plan: &HostPlan, packet: &Packet) -> String {
    plan.evaluate(packet).by.to_string()
}

#[test]
fn known_names_stand_for_what_services_are_used_with() {
    let traffic = |name: &str| {
        policy(&rule(&format!("allow = [\"{name}\"]"))).hosts[0].rules[0].traffic.to_string()
    };
    // The registry lists both over SCTP, too, or over UDP.
    assert_eq!(traffic("domain"), "53/tcp+udp");
    assert_eq!(traffic("ssh"), "22/tcp");
}

#[test]
fn built_in_places_hold_what_they_say() {
    let from = |name: &str| {
        policy(&rule(&format!("allow = [\"1/tcp\"]\nfrom = [\"{name}\"]"))).hosts[0].rules[0]
            .from
            .addresses()
    };
    assert!(from("anywhere").is_full());
    let private = from("private");
    for inside in ["10.44.8.1", "100.64.0.1", "169.254.9.9", "fd44::1", "fe80::1"] {
        assert!(private.contains(address(inside)), "{inside}");
    }
    for outside in ["9.255.255.255", "11.0.0.0", "192.0.2.1", "2001:db8::1", "fec0::1", "fbff::1"] {
        assert!(!private.contains(address(outside)), "{outside}");
    }
}

#[test]
fn at_is_the_end_of_the_host() {
    let inbound = plan(&rule("allow = [\"443/tcp\"]\nat = [\"192.0.2.11\"]"));
    assert_eq!(by(&inbound, &packet("203.0.113.9", "192.0.2.11", tcp(443))), "it");
    assert_eq!(by(&inbound, &packet("203.0.113.9", "192.0.2.10", tcp(443))), "default/inbound");
    let keys = "deny = [\"25/tcp\"]\nat = [\"192.0.2.11\"]\ndirection = \"outbound\"";
    let outbound = plan(&rule(keys));
    let sent = |from: &str| Packet {
        direction: Direction::Outbound,
        ..packet(from, "203.0.113.9", tcp(25))
    };
    assert_eq!(by(&outbound, &sent("192.0.2.11")), "it");
    assert_eq!(by(&outbound, &sent("192.0.2.10")), "default/outbound");
}

#[test]
fn far_ends_are_on_the_link() {
    let mut plan = plan("edition = 1\n[host.bench]\n");
    let far = [(address("10.99.0.2"), 32), (address("fd99::2"), 128)];
    plan.at_the_moment(&[(address("10.99.0.1"), 32), (address("fd99::1"), 128)], &far);
    let near = |text: &str| plan.relation(address(text));
    assert_eq!(near("10.99.0.1"), Relation { own: true, on_link: false });
    for text in ["10.99.0.2", "fd99::2"] {
        assert_eq!(near(text), Relation { own: false, on_link: true });
    }
    assert_eq!(near("10.99.0.3"), Relation::default());
    plan.at_the_moment(&[(address("192.0.2.9"), 24), (address("2001:db8::9"), 64)], &[]);
    for text in ["192.0.2.200", "2001:db8::ffff", "fe80::1234"] {
        assert!(plan.relation(address(text)).on_link, "{text}");
    }
    assert!(!plan.relation(address("10.99.0.2")).on_link, "those of before are forgotten");
    // Where they are listed, nobody asks.
    let mut fixed = self::plan(HOST);
    fixed.at_the_moment(&[(address("10.99.0.1"), 24)], &[]);
    assert_eq!(fixed.addresses, [address("192.0.2.10"), address("192.0.2.11")]);
    assert_eq!(fixed.relation(address("192.0.2.10")), Relation::default());
}

#[test]
fn one_section_serves_many_machines_by_their_names() {
    let policy = policy(
        "edition = 1\n[host.web]\nnames = [\"web-*\"]\n[host.web-1]\n[host.readers]\n\
         names = [\"*-reader\", \"web-x*\"]\n",
    );
    let host = |name: &str| resolve(&policy, name, NOW).map(|it| it.host);
    assert_eq!(host("web-2").as_deref(), Ok("web"));
    assert_eq!(host("web-1").as_deref(), Ok("web-1"), "a section of just that name");
    assert_eq!(host("marsh-reader").as_deref(), Ok("readers"));
    let two = host("web-x1").expect_err("two");
    assert_eq!(two.to_string(), "`web-x1` fits the names of several: web, readers");
    assert!(host("bench").expect_err("none").several.is_empty());
}

#[test]
fn a_rate_without_a_burst_has_its_own_number() {
    let rate = |text: &str| {
        let keys = format!("allow = [\"1/tcp\"]\nrate = \"{text}\"");
        policy(&rule(&keys)).hosts[0].rules[0].rate.expect("a rate")
    };
    assert_eq!((rate("7/minute").count, rate("7/minute").burst), (7, 7));
    assert_eq!(rate("7/minute, burst 4").burst, 4);
}

#[test]
fn what_a_limited_rule_allows_counts_as_allowed() {
    let text = format!(
        "{}[[host.bench.expect]]\ntraffic = [\"443/tcp\"]\nverdict = \"allow\"\n",
        rule("allow = [\"443/tcp\"]\nrate = \"9/minute per source\"")
    );
    let (policy, plan) = (policy(&text), plan(&text));
    let likely = |_| packet("203.0.113.9", "192.0.2.10", tcp(443));
    let found = review(&policy, &plan, NOW, &likely);
    assert!(found.iter().all(|it| it.code != Code::ExpectationFailed), "{found:#?}");
}
