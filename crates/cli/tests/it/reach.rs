//! `reach`: listeners, verdicts and real probes.

use crate::harness::Desk;
use serde_json::Value;
use std::net::{TcpListener, UdpSocket};
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};

const POLICY: &str = r#"
edition = 1
[place.curators]
addresses = ["198.51.100.0/27", "2001:db8:51::/64"]
[place.strangers]
addresses = ["203.0.113.0/24", "2001:db8:bad::/64"]
[host.sluice]
addresses = ["192.0.2.10", "2001:db8:2::10"]
[[host.sluice.rule]]
name = "catalogue"
allow = ["443/tcp", "5353/udp"]
[[host.sluice.rule]]
name = "shell"
allow = ["2202/tcp"]
from = ["curators"]
[[host.sluice.rule]]
name = "old"
reject = ["9100/tcp", "161/udp"]
"#;

struct World {
    lab: Lab,
    desk: Desk,
}

impl World {
    fn new() -> Self {
        Self { lab: street_sluice_granary(), desk: Desk::with(POLICY) }
    }

    fn sluice(&self) -> &Node {
        self.lab.node("sluice").expect("there")
    }

    /// The report with probes from the street, which speaks for both places.
    fn reach(&self, more: &[&str], exit: i32) -> Value {
        let street = self.lab.node("street").expect("there").namespace().file();
        let vantage = |place: &str| format!("{place}=netns:{}", street.display());
        let (curators, strangers) = (vantage("curators"), vantage("strangers"));
        let args = ["reach", "--format", "json", "--patience", "0.7"];
        let probes = ["--vantage", &curators, "--vantage", &strangers];
        let args = args.iter().chain(&probes).chain(more);
        self.desk.on(self.sluice(), args).exits(exit).json()
    }
}

fn listener<'a>(report: &'a Value, port: u16, protocol: &str) -> &'a Value {
    let all = report["listeners"].as_array().expect("a list");
    let found = all.iter().find(|it| it["port"] == port && it["protocol"] == protocol);
    found.unwrap_or_else(|| panic!("no listener {port}/{protocol} in {report:#}"))
}

/// For each entry of a listener: place, version, policy, kernel, observed, agree.
fn views(listener: &Value) -> Vec<String> {
    let entries = listener["from"].as_array().expect("a list");
    let word = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    entries
        .iter()
        .map(|it| {
            ["place", "version", "policy", "kernel", "observed", "agree"]
                .map(|key| word(&it[key]))
                .join(" ")
        })
        .collect()
}

#[test]
fn every_kind_of_listener_is_told_apart_by_all_three_witnesses() {
    sealed("reach::every_kind_of_listener_is_told_apart_by_all_three_witnesses", || {
        let world = World::new();
        let held = world
            .sluice()
            .run(|| {
                let dual = TcpListener::bind("[::]:443").expect("bound");
                let v4 = TcpListener::bind("0.0.0.0:2202").expect("bound");
                let own = TcpListener::bind("[2001:db8:2::10]:9100").expect("bound");
                let inner = TcpListener::bind("127.0.0.1:5432").expect("bound");
                let silent = UdpSocket::bind("0.0.0.0:5353").expect("bound");
                let rejected = UdpSocket::bind("[::]:161").expect("bound");
                (dual, v4, own, inner, silent, rejected)
            })
            .expect("entered");
        world.desk.on(world.sluice(), ["enforce", "--keep"]).exits(0);
        let report = world.reach(&[], 0);

        let dual = listener(&report, 443, "tcp");
        assert_eq!(dual["address"], "::");
        assert_eq!(dual["versions"], serde_json::json!(["IPv4", "IPv6"]));
        assert_eq!(dual["pid"], std::process::id());
        let program = std::env::current_exe().expect("a path");
        assert_eq!(dual["program"], program.display().to_string());
        assert!(dual["taken_for"].is_null(), "no rule asks whose it is: {dual:#}");
        assert!(dual["user"].is_string());
        assert_eq!(
            views(dual),
            [
                "curators IPv4 allow allow open true",
                "curators IPv6 allow allow open true",
                "strangers IPv4 allow allow open true",
                "strangers IPv6 allow allow open true",
                "anywhere IPv4 allow allow null true",
                "anywhere IPv6 allow allow null true",
            ]
        );
        assert_eq!(
            views(listener(&report, 2202, "tcp"))[..2],
            ["curators IPv4 allow allow open true", "strangers IPv4 deny deny silent true"]
        );
        let own = listener(&report, 9100, "tcp");
        assert_eq!(views(own)[0], "curators IPv6 reject reject refused true");
        assert_eq!(
            own["from"][0]["decided_by"]["origin"],
            serde_json::json!({ "file": "policy.toml", "line": 17 })
        );
        // From outside, nobody reaches what listens on a loopback address; nothing to probe.
        assert_eq!(views(listener(&report, 5432, "tcp"))[0], "curators IPv4 deny deny null true");
        // Reached, but it does not answer: over UDP that contradicts nothing.
        assert_eq!(
            views(listener(&report, 5353, "udp"))[0],
            "curators IPv4 allow allow silent true"
        );
        let rejected = listener(&report, 161, "udp");
        assert_eq!(
            views(rejected)[..2],
            [
                "curators IPv4 reject reject prohibited true",
                "curators IPv6 reject reject prohibited true"
            ]
        );
        let probes = &rejected["from"][0]["parts"][0]["probes"];
        assert_eq!(probes[0]["evidence"], "ICMP type 3 code 13");
        drop(held);
    });
}

#[test]
fn a_disagreement_is_marked_and_sets_the_exit_code() {
    sealed("reach::a_disagreement_is_marked_and_sets_the_exit_code", || {
        let world = World::new();
        let _held = world.sluice().run(|| TcpListener::bind("[::]:2202").expect("bound"));
        // Nothing is enforced: the policy denies the strangers, kernel and wire do not.
        let report = world.reach(&["--from", "strangers", "curators"], 1);
        assert_eq!(
            views(listener(&report, 2202, "tcp")),
            [
                "strangers IPv4 deny allow open false",
                "strangers IPv6 deny allow open false",
                "curators IPv4 allow allow open true",
                "curators IPv6 allow allow open true",
            ]
        );
        let text =
            world.desk.on(world.sluice(), ["reach", "--from", "203.0.113.9"]).exits(1).stdout;
        assert!(text.contains("! deny, kernel allow"), "{text}");
        assert!(text.contains("1 disagreement between the witnesses"), "{text}");
    });
}

#[test]
fn senders_of_one_place_that_fare_differently_are_kept_apart() {
    sealed("reach::senders_of_one_place_that_fare_differently_are_kept_apart", || {
        let world = World::new();
        world.desk.write(
            POLICY.replace(
                "from = [\"curators\"]",
                "from = [\"198.51.100.7\", \"2001:db8:51::/64\"]",
            ),
        );
        let _held = world.sluice().run(|| TcpListener::bind("0.0.0.0:2202").expect("bound"));
        world.desk.on(world.sluice(), ["enforce", "--keep"]).exits(0);
        let report = world.reach(&["--from", "curators", "strangers"], 0);
        let curators = &listener(&report, 2202, "tcp")["from"][0];
        assert_eq!((&curators["policy"], &curators["agree"]), (&"partly".into(), &true.into()));
        assert_eq!(curators["decided_by"], Value::Null);
        let parts = curators["parts"].as_array().expect("a list");
        assert_eq!(parts[0]["senders"], "198.51.100.7");
        assert_eq!((&parts[0]["policy"], &parts[0]["observed"]), (&"allow".into(), &"open".into()));
        assert_eq!(
            (&parts[1]["policy"], &parts[1]["observed"]),
            (&"deny".into(), &"silent".into())
        );
    });
}

#[test]
fn vantages_are_checked_before_anything_is_sent() {
    let desk = Desk::with(POLICY);
    let reach = |vantage: &str| desk.run(["reach", "--vantage", vantage]).exits(2).stderr;
    assert!(reach("curators").contains("expected PLACE=ssh:"));
    assert!(reach("curator=netns:/proc/self/ns/net").contains("did you mean `curators`"));
}

#[test]
fn a_copy_is_asked_for_another_interface_by_one_that_no_rule_names() {
    sealed("reach::a_copy_is_asked_for_another_interface_by_one_that_no_rule_names", || {
        let world = World::new();
        let policy = POLICY.replace("\"5353/udp\"]\n", "\"5353/udp\"]\ningress = [\"eth0\"]\n");
        assert_ne!(policy, POLICY);
        world.desk.write(policy);
        let _held = world.sluice().run(|| TcpListener::bind("[::]:443").expect("bound"));
        world.desk.on(world.sluice(), ["enforce", "--keep"]).exits(0);
        let copies = || {
            let report = world.reach(&[], 0);
            let entries = listener(&report, 443, "tcp")["from"].as_array().expect("a list").clone();
            let parts =
                entries.iter().flat_map(|it| it["parts"].as_array().expect("a list").clone());
            let by = |it: &Value| (it["interfaces"][0].clone(), it["copy"].clone());
            let mut found: Vec<_> = parts.map(|it| by(&it)).collect();
            found.sort_by_key(|it| it.0.to_string());
            found.dedup();
            found
        };
        let named = ("eth0".into(), "open".into());
        assert_eq!(copies(), [("another".into(), "denied".into()), named.clone()]);
        // Where there is no other, none can be tried, and the one that there is says nothing of it.
        let down =
            || std::process::Command::new("ip").args(["link", "set", "eth1", "down"]).status();
        assert!(world.sluice().run(down).expect("entered").expect("run").success());
        assert_eq!(copies(), [("another".into(), Value::Null), named]);
    });
}

#[test]
fn what_depends_on_the_interface_is_told_by_interface() {
    sealed("reach::what_depends_on_the_interface_is_told_by_interface", || {
        let world = World::new();
        let policy = POLICY.replace(
            "[[host.sluice.rule]]\nname = \"old\"",
            "[[host.sluice.rule]]\nname = \"metrics\"\nallow = [\"9100/tcp\"]\ningress = [\"stacks\"]\n\
             [[host.sluice.rule]]\nname = \"old\"",
        );
        let addresses = "addresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n";
        let roles = "interfaces = { outside = \"eth0\", stacks = \"eth1\" }\n";
        world.desk.write(policy.replace(addresses, &format!("{addresses}{roles}")));
        let _held = world.sluice().run(|| TcpListener::bind("0.0.0.0:9100").expect("bound"));
        world.desk.on(world.sluice(), ["enforce", "--keep"]).exits(0);
        let report = world.reach(&["--from", "curators", "strangers"], 0);
        let curators = &listener(&report, 9100, "tcp")["from"][0];
        let part = |interfaces: Value| {
            let parts = curators["parts"].as_array().expect("a list");
            parts.iter().find(|part| part["interfaces"] == interfaces).expect("a part").clone()
        };
        let inside = part(serde_json::json!(["eth1"]));
        assert_eq!((&inside["policy"], &inside["kernel"]), (&"allow".into(), &"allow".into()));
        assert_eq!(inside["observed"], Value::Null, "no curator comes in by eth1");
        let outside = part(serde_json::json!(["another"]));
        assert_eq!(outside["policy"], "reject");
        assert_eq!(outside["observed"], "refused");
        let text = world.desk.on(world.sluice(), ["reach", "--from", "curators"]).exits(0).stdout;
        assert!(text.contains("by eth1: allow"), "{text}");

        let ask = ["ask", "--from", "198.51.100.7", "--traffic", "9100/tcp"];
        let both = world.desk.run(ask.iter().chain(&["--format", "json"])).exits(1).json();
        assert_eq!(both["depends_on"], serde_json::json!(["ingress"]));
        let answers = both["answers"].as_array().expect("a list");
        let told: Vec<_> = answers
            .iter()
            .map(|it| (it["decided_by"]["name"].as_str(), it["when"][0].as_str()))
            .collect();
        let expected = [("metrics", "in by eth1"), ("old", "in by not eth1")];
        assert_eq!(told, expected.map(|it| (Some(it.0), Some(it.1))));
        let wrong = ask.iter().chain(&["--ingress", "cellar"]);
        let wrong = world.desk.run(wrong).exits(2).stderr;
        assert!(wrong.contains("`sluice` has no such interface"), "{wrong}");
        let by = |ingress: &str| {
            let answer =
                world.desk.run(ask.iter().chain(&["--ingress", ingress, "--format", "json"]));
            answer.exits(0).json()["decided_by"]["name"].as_str().map(str::to_owned)
        };
        assert_eq!(by("stacks").as_deref(), Some("metrics"));
        assert_eq!(by("eth0").as_deref(), Some("old"));
        // Where all interfaces fare alike, none need be named.
        world.desk.run(["ask", "--from", "198.51.100.7", "--traffic", "443/tcp"]).exits(0);
    });
}
