//! Whether a session could be opened again: each part of the way barred by itself.

use crate::given::{address, plan};
use tipstaff_core::analysis::{Part, Session, obstacle};
use tipstaff_core::plan::HostPlan;
use tipstaff_core::space::{ConnectionState, Direction};

/// Whoever may come from anywhere; the host's own keys and rules follow.
fn with(keys: &str, rules: &str) -> HostPlan {
    let text = format!(
        "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"fe80::10\"]\n{keys}{rules}"
    );
    plan(&text, "sluice")
}

fn rule(name: &str, keys: &str) -> String {
    format!("[[host.sluice.rule]]\nname = \"{name}\"\n{keys}\n")
}

fn shell(keys: &str) -> String {
    rule("shell", &format!("allow = [\"2202/tcp\"]\n{keys}"))
}

fn session(client: &str, server: &str) -> Session {
    Session {
        user: None,
        client: (address(client), 50_000),
        server: (address(server), 2202),
        interface: Some("eth0".into()),
        program: None,
    }
}

const V4: (&str, &str) = ("198.51.100.7", "192.0.2.10");
const V6: (&str, &str) = ("2001:db8:51::7", "2001:db8:2::10");

/// Which part of the way is barred, by whom, for whom.
fn barred(plan: &HostPlan, (client, server): (&str, &str)) -> Option<(Part, String)> {
    let session = session(client, server);
    let found = obstacle(plan, &session)?;
    // What is said to be stopped is.
    assert_eq!(plan.decision(&found.packet).id, found.decision.id);
    Some((found.part, found.decision.id.to_string()))
}

#[test]
fn a_way_that_is_free_has_no_obstacle() {
    let plan = with("", &shell(""));
    for ends in [V4, V6, ("fe80::7", "fe80::10"), ("203.0.113.9", "192.0.2.10")] {
        assert_eq!(barred(&plan, ends), None, "{ends:?}");
    }
}

#[test]
fn the_opening_is_what_rules_are_for() {
    let denied = |by: &str| Some((Part::Opening, by.to_owned()));
    assert_eq!(barred(&with("", ""), V4), denied("default/inbound"));
    let only = with("", &shell("from = [\"198.51.100.0/27\"]"));
    assert_eq!(barred(&only, V4), None);
    assert_eq!(barred(&only, V6), denied("default/inbound"));
    assert_eq!(barred(&only, ("198.51.100.32", "192.0.2.10")), denied("default/inbound"));
    let above = rule("not-he", "reject = [\"any\"]\nfrom = [\"198.51.100.7\"]") + &shell("");
    assert_eq!(barred(&with("", &above), V4), denied("not-he"));
    // By which interface, and for which program.
    let roles = "interfaces = { outside = \"eth0\", stacks = \"eth1\" }\n";
    assert_eq!(barred(&with(roles, &shell("ingress = [\"outside\"]")), V4), None);
    assert_eq!(
        barred(&with(roles, &shell("ingress = [\"stacks\"]")), V4),
        denied("default/inbound")
    );
    let named = with("", &shell("program = \"/usr/sbin/shelld\""));
    assert_eq!(barred(&named, V4), denied("default/inbound"));
    let known = Session { program: Some("/usr/sbin/shelld".into()), ..session(V4.0, V4.1) };
    assert_eq!(obstacle(&named, &known), None);
    let unseen = Session { interface: None, ..session(V4.0, V4.1) };
    assert!(obstacle(&with(roles, &shell("ingress = [\"outside\"]")), &unseen).is_some());
}

#[test]
fn three_connections_a_minute_are_the_least() {
    for (rate, enough) in [
        ("1/minute, burst 2", true),
        ("1/minute, burst 1", false),
        ("2/minute, burst 1", true),
        ("1/hour, burst 3", true),
        ("1/hour, burst 2", false),
        ("1/second, burst 1", true),
        ("1/day, burst 2", false),
        ("1000000/second, burst 1000000", true),
    ] {
        let plan = with("", &shell(&format!("rate = \"{rate}\"")));
        let found = barred(&plan, V4);
        match found {
            None => assert!(enough, "{rate}"),
            Some((Part::Rate(of), by)) => {
                assert!(!enough, "{rate}");
                assert_eq!(by, "shell");
                assert!(rate.starts_with(&format!("{}/", of.count)), "{of}");
            }
            other => panic!("{rate}: {other:?}"),
        }
    }
}

#[test]
fn what_follows_the_opening_has_to_pass_as_well() {
    let deaf = "[host.sluice.baseline]\nreplies = false\n";
    // Rules are about all packets then; the answers go out by the default.
    let plan = with("", &format!("{deaf}{}", shell("")));
    assert_eq!(barred(&plan, V4), None);
    // A rate on everything beyond the first packet is no way to work, however large.
    let plan = with("", &format!("{deaf}{}", shell("rate = \"1000000/second, burst 1000000\"")));
    assert!(matches!(barred(&plan, V4), Some((Part::Rate(_), by)) if by == "shell"));
    // Nothing goes out.
    let mute = "[host.sluice.default]\noutbound = \"deny\"\n";
    let plan = with("", &format!("{deaf}{mute}{}", shell("")));
    assert_eq!(barred(&plan, V4), Some((Part::Answers, "default/outbound".into())));
    let found = obstacle(&plan, &session(V4.0, V4.1)).expect("it is barred").packet;
    assert_eq!((found.direction, found.state), (Direction::Outbound, ConnectionState::Established));
    assert_eq!((found.source, found.destination), (address(V4.1), address(V4.0)));
    assert_eq!((&found.in_interface, found.out_interface.as_deref()), (&None, Some("eth0")));
    assert_eq!(found.ports(), Some((2202, 50_000)));
    // With replies let through, a mute default harms nobody.
    assert_eq!(barred(&with("", &format!("{mute}{}", shell(""))), V4), None);
}

#[test]
fn ipv6_needs_its_neighbours_and_ipv4_does_not() {
    let alone = "[host.sluice.baseline]\nneighbours = false\n";
    let plan = with("", &format!("{alone}{}", shell("")));
    assert_eq!(barred(&plan, V4), None);
    assert_eq!(barred(&plan, V6), Some((Part::Neighbours, "default/inbound".into())));
    let link = ("fe80::7", "fe80::10");
    assert_eq!(barred(&plan, link), Some((Part::Neighbours, "default/inbound".into())));
    // Who is on the link asks by himself; somebody else does for those who are not.
    let asks =
        |ends: (&str, &str)| obstacle(&plan, &session(ends.0, ends.1)).expect("it").packet.source;
    assert_eq!(asks(link), address("fe80::7"));
    assert_eq!(asks(V6), address("fe80::1"));
    // Let in and not out.
    let rules = rule(
        "asked",
        "allow = [\"icmp:neighbour-solicitation\", \"icmp:neighbour-advertisement\"]",
    );
    let mute = "[host.sluice.default]\noutbound = \"deny\"\n";
    let plan = with("", &format!("{alone}{mute}{rules}{}", shell("")));
    assert_eq!(barred(&plan, V6), Some((Part::Neighbours, "default/outbound".into())));
    let plan = with("", &format!("{alone}{rules}{}", shell("")));
    assert_eq!(barred(&plan, V6), None);
}
