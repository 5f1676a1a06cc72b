//! What the record shows about rules: which nobody used, and who used the others.

use crate::remembering::World;
use serde_json::Value;
use std::net::TcpListener;
use std::thread::sleep;
use std::time::Duration;
use tipstaff_linux::lab::testing::{Rain, address, sealed};
use tipstaff_linux::ruleset::{callers, remind};
use tipstaff_linux::{NetlinkSocket, Protocol};
use tipstaff_wire::packet::{Payload, build};

const POLICY: &str = "edition = 1\n\
    [place.pilots]\naddresses = [\"198.51.100.0/24\"]\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\nrecord = \"all\"\n\
    [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\"]\n\
    [[host.sluice.rule]]\nname = \"archive\"\nallow = [\"8443/tcp\"]\n\
    [[host.sluice.rule]]\nname = \"nuisance\"\ndeny = [\"9000/tcp\"]\n";

const DAYS: u64 = 3 * 86_400;

impl World {
    /// Makes what is remembered since when so much older.
    fn grow_old(&self, seconds: u64) {
        let older = || {
            let mut kernel = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
            let mut before = callers(&mut kernel).expect("read").expect("remembered");
            for begun in &mut before.begun {
                begun.since -= seconds;
            }
            remind(&mut kernel, &before).expect("reminded");
        };
        self.node("sluice").run(older).expect("entered");
    }

    fn findings(&self) -> Vec<(String, String, String, String)> {
        let told = self.run(&["review", "--live", "--format", "json"]).json();
        let word = |it: &Value| it.as_str().unwrap_or_default().to_owned();
        let all = told["findings"].as_array().expect("a list").iter();
        let all = all.map(|it| {
            (word(&it["code"]), word(&it["rule"]), word(&it["message"]), word(&it["mend"]))
        });
        all.filter(|it| ["unused-rule", "wider-than-used"].contains(&it.0.as_str())).collect()
    }

    fn listen(&self, port: u16) -> TcpListener {
        let listener = self.node("sluice").run(|| TcpListener::bind(("::", port)));
        listener.expect("entered").expect("bound")
    }
}

#[test]
fn rules_are_held_against_who_used_them() {
    sealed("evidence::rules_are_held_against_who_used_them", || {
        let world = World::with(POLICY);
        let (_shop, _archive) = (world.listen(443), world.listen(8443));
        world.enforce();
        assert!(world.knock("198.51.100.7", "192.0.2.10:443"));
        assert!(!world.knock("198.51.100.7", "192.0.2.10:9000"));
        sleep(Duration::from_millis(1_100));
        assert_eq!(world.findings(), [], "a second tells nothing");
        world.grow_old(DAYS);
        let finding = |code: &str, rule: &str, message: &str, mend: &str| {
            (code.to_owned(), rule.to_owned(), message.to_owned(), mend.to_owned())
        };
        let unused = finding(
            "unused-rule",
            "archive",
            "has admitted nobody in the last 3 days",
            "tipstaff rule remove archive",
        );
        let wider = finding(
            "wider-than-used",
            "catalogue",
            "lets anybody reach 443/tcp; in the last 3 days only pilots did",
            "tipstaff rule tighten catalogue",
        );
        assert_eq!(world.findings(), [unused.clone(), wider]);
        // Whatever else changes, what is known of these rules stays.
        world.desk.write(POLICY.replace("9000/tcp", "9001/tcp"));
        world.enforce();
        assert_eq!(world.findings().len(), 2);

        let narrow = |args: &[&str]| {
            let all = ["rule", "tighten", "catalogue", "--format", "json"].iter().chain(args);
            let all: Vec<&str> = all.copied().collect();
            world.run(&all).exits(0).json()
        };
        let before = world.desk.text();
        let shown = narrow(&["--dry-run"]);
        assert_eq!(shown["terms"], serde_json::json!(["pilots"]));
        assert_eq!(shown["turned_away"], serde_json::json!([]));
        assert_eq!(world.desk.text(), before);
        let text = world.run(&["rule", "tighten", "catalogue", "--dry-run"]).exits(0).stdout;
        println!("{text}");
        assert!(text.contains("One address used `catalogue` in the last 3 days"), "{text}");
        assert!(text.contains("closes"), "{text}");
        let done = narrow(&["--to", "addresses"]);
        assert_eq!(done["terms"], serde_json::json!(["198.51.100.7"]));
        assert!(world.desk.text().contains("from = [\"198.51.100.7\"]"), "{}", world.desk.text());
        // The rules in force are others.
        let other = world.run(&["rule", "tighten", "catalogue"]).exits(1).stderr;
        assert!(
            other.contains("nothing is remembered of who used `catalogue` as it is"),
            "{other}"
        );
        world.enforce();
        assert!(world.knock("198.51.100.7", "192.0.2.10:443"));
        assert!(!world.knock("203.0.113.9", "192.0.2.10:443"));
        assert_eq!(world.findings(), [unused]);
        let said = |args: &[&str], code| world.run(args).exits(code).stderr;
        let whole = said(&["rule", "tighten", "catalogue"], 1);
        assert!(whole.contains("nothing is narrower"), "{whole}");
        let nobody = said(&["rule", "tighten", "archive"], 1);
        assert!(nobody.contains("`tipstaff rule remove archive`"), "{nobody}");
        let denies = said(&["rule", "tighten", "nuisance"], 2);
        assert!(denies.contains("its verdict is deny"), "{denies}");
        said(&["rule", "tighten", "nothing"], 2);

        world.run(&["callers", "--clear"]).exits(0);
        assert_eq!(world.findings(), [], "it begins anew");
    });
}

#[test]
fn a_connection_that_lives_on_is_a_use() {
    sealed("evidence::a_connection_that_lives_on_is_a_use", || {
        let world = World::with(POLICY);
        let archive = world.listen(8443);
        world.enforce();
        let caller = world.open("198.51.100.7", "192.0.2.10:8443").expect("connected");
        let (there, _) = archive.accept().expect("accepted");
        // It was begun longer ago than is remembered.
        world.run(&["callers", "--clear"]).exits(0);
        world.grow_old(DAYS);
        let rules = |world: &World| -> Vec<String> {
            let unused = world.findings().into_iter().filter(|it| it.0 == "unused-rule");
            unused.map(|it| it.1).collect()
        };
        assert_eq!(rules(&world), ["catalogue"]);
        drop((caller, there));
        // What is left of it is over in a moment.
        let over = || rules(&world) == ["catalogue", "archive"];
        let late = (0..100).any(|_| {
            over() || {
                sleep(Duration::from_millis(100));
                false
            }
        });
        assert!(late, "{:?}", world.findings());
    });
}

#[test]
fn a_rule_that_has_changed_has_no_past() {
    sealed("evidence::a_rule_that_has_changed_has_no_past", || {
        let world = World::with(POLICY);
        world.enforce();
        world.grow_old(DAYS);
        assert_eq!(world.findings().len(), 2);
        world.desk.write(POLICY.replace("8443/tcp", "8444/tcp"));
        assert_eq!(world.findings().len(), 1, "not yet in force");
        world.enforce();
        assert_eq!(world.findings().len(), 1);
        world.grow_old(DAYS);
        assert_eq!(world.findings().len(), 2);
        // Nor has one that was away in between.
        world.desk.write(POLICY.replace("\"archive\"", "\"stacks\""));
        world.enforce();
        world.desk.write(POLICY.replace("8443/tcp", "8444/tcp"));
        world.enforce();
        assert_eq!(world.findings().len(), 1);
    });
}

#[test]
fn a_draft_keeps_admitted_whoever_came() {
    sealed("evidence::a_draft_keeps_admitted_whoever_came", || {
        let open =
            POLICY.replace("record = \"all\"\n", "record = \"all\"\ndefault.inbound = \"allow\"\n");
        let world = World::with(&open);
        let (_shop, _archive) = (world.listen(443), world.listen(8443));
        let none = world.run(&["draft", "--from-record"]);
        assert_eq!(none.code, 1, "{}", none.stdout);
        assert!(none.stderr.contains("not remembered who was admitted"), "{}", none.stderr);
        world.enforce();
        assert!(world.knock("198.51.100.7", "192.0.2.10:443"));
        assert!(world.knock("203.0.113.9", "192.0.2.10:443"));
        assert!(world.knock("2001:db8:51::7", "[2001:db8:2::10]:8443"));
        world.knock("203.0.113.9", "192.0.2.10:5000");
        sleep(Duration::from_millis(300));
        world.grow_old(DAYS);
        let draft = world.run(&["draft", "--from-record"]).exits(0).stdout;
        println!("{draft}");
        assert!(draft.contains("what listens here now and who came in the last 3 days"), "{draft}");
        assert!(draft.contains("(how many came): 5000/tcp (1)."), "{draft}");
        world.desk.write(&draft);
        world.run(&["enforce", "--keep"]).exits(0);
        assert!(world.knock("198.51.100.7", "192.0.2.10:443"));
        assert!(world.knock("203.0.113.9", "192.0.2.10:443"));
        assert!(world.knock("2001:db8:51::7", "[2001:db8:2::10]:8443"));
        assert!(!world.knock("198.51.100.7", "192.0.2.10:8443"), "did not come");
        assert!(!world.knock("203.0.113.9", "192.0.2.10:8443"), "did not come");
        // What is remembered since then is not of everybody.
        let again = world.run(&["draft", "--from-record"]).exits(0).stdout;
        assert!(again.contains("whoever the rules in force turn away"), "{again}");
    });
}

#[test]
fn reach_and_report_tell_what_has_come() {
    sealed("evidence::reach_and_report_tell_what_has_come", || {
        let world = World::with(POLICY);
        let (_shop, _archive) = (world.listen(443), world.listen(8443));
        let told = |args: &[&str]| world.run(args).json();
        let listener = |told: &Value, port: u64| {
            let all = told["listeners"].as_array().expect("a list").iter();
            all.clone().find(|it| it["port"] == port).expect("it listens")["came"].clone()
        };
        let before = told(&["reach", "--format", "json"]);
        assert_eq!(listener(&before, 443), Value::Null);
        assert_eq!(before["came_within_seconds"], Value::Null);
        world.enforce();
        for caller in ["198.51.100.7", "203.0.113.9", "203.0.113.9"] {
            assert!(world.knock(caller, "192.0.2.10:443"));
        }
        assert!(!world.knock("203.0.113.9", "192.0.2.10:9000"));
        assert!(!world.knock("203.0.113.9", "192.0.2.10:9999"));
        let after = told(&["reach", "--format", "json"]);
        let shop = listener(&after, 443);
        assert_eq!(shop["admitted"], 3);
        assert_eq!(shop["admitted_senders"], 2);
        assert_eq!(shop["denied"], 0);
        assert_eq!(listener(&after, 8443)["last_seconds_ago"], Value::Null);
        assert_eq!(after["came_within_seconds"], 7 * 86_400);
        let text = world.run(&["reach"]).stdout;
        assert!(text.contains("3 admitted") && text.contains("none denied"), "{text}");

        let report = told(&["report", "--live", "--format", "json"]);
        let rows = report["matrix"]["rows"].as_array().expect("a list");
        let came = |what: &str| {
            let row =
                rows.iter().find(|it| it["what"].as_str().is_some_and(|it| it.contains(what)));
            row.unwrap_or_else(|| panic!("{what}: {rows:?}"))["came"].clone()
        };
        assert_eq!(came("443/tcp")["admitted"], 3);
        assert!(came("9000/tcp")["denied"].as_u64() >= Some(1));
        assert!(came("every other port")["denied"].as_u64() >= Some(1));
        let text = world.run(&["report", "--live"]).stdout;
        println!("{text}");
        assert!(text.contains("# 3 admitted"), "{text}");
        let page = world.run(&["report", "--live", "--format", "html"]).stdout;
        assert!(page.contains("style=\"width: 1rem\"></span>3 admitted"), "{page}");
        let sheet = world.run(&["report", "--live", "--format", "csv"]).stdout;
        assert!(
            sheet.lines().any(|it| it.starts_with("sluice,443/tcp") && it.ends_with(",3,0")),
            "{sheet}"
        );
    });
}

#[test]
fn what_connection_tracking_leaves_alone_is_a_use_all_the_same() {
    sealed("evidence::what_connection_tracking_leaves_alone_is_a_use_all_the_same", || {
        let policy = POLICY.replace("[\"8443/tcp\"]", "[\"icmp:listener-report\"]");
        let world = World::with(&policy);
        world.enforce();
        world.grow_old(DAYS);
        let unused = || {
            let all = world.findings().into_iter().filter(|it| it.0 == "unused-rule");
            all.map(|it| it.1).collect::<Vec<_>>()
        };
        assert_eq!(unused(), ["catalogue", "archive"]);
        let (sluice, street) = (world.node("sluice"), world.node("street"));
        let rain = Rain::open((sluice, "eth0"), (street, "eth0"));
        let (from, to) = (address("2001:db8:2::1"), address("2001:db8:2::10"));
        rain.send(&build(from, to, Payload::Icmp { kind: 131 }, 1));
        assert_eq!(unused(), ["catalogue"]);
    });
}
