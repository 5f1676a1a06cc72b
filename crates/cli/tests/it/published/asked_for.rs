//! Rules about the ports that callers see.

use super::tables::{TCP, one, port, protocol, to, version};
use super::{POLICY, text, world};
use crate::harness::{Desk, give};
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::time::Duration;
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{connect_from, sealed};

/// The same policy, with a rule that speaks of the port that callers see instead of the one behind.
fn policy(rule: &str) -> String {
    let at = POLICY.find("[[host.sluice.rule]]\nname = \"mirror\"").expect("it");
    format!("{}{rule}", &POLICY[..at])
}

const BY_PUBLISHED: &str = "[[host.sluice.rule]]\nname = \"reading-room\"\n\
                            direction = \"forwarded\"\nallow = [\"any\"]\n\
                            published = [\"8088/tcp\"]\nfrom = [\"curators\"]\n";

/// A connection from an address of the street, over which bytes go both ways; nothing if there is none.
fn connected(street: &Node, from: &str, there: &str) -> Option<TcpStream> {
    let at = |text: &str| text.parse::<SocketAddr>().expect("an address");
    let stream = street.run(|| connect_from(at(from), at(there))).expect("entered").ok()?;
    stream.set_read_timeout(Some(Duration::from_secs(2))).expect("set");
    Some(stream)
}

fn speaks(stream: &mut TcpStream) -> bool {
    let mut bytes = [0; 4];
    stream.write_all(b"seed").and_then(|()| stream.read_exact(&mut bytes)).is_ok()
}

#[test]
fn a_rule_can_name_the_port_that_callers_see() {
    sealed("published::asked_for::a_rule_can_name_the_port_that_callers_see", || {
        let (lab, mut servers, _names) = world();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        // The first of them waits at the machine behind.
        let server = servers.remove(0);
        std::thread::spawn(move || {
            for stream in server.incoming() {
                let mut stream = stream.expect("a connection");
                std::thread::spawn(move || {
                    let mut bytes = [0; 4];
                    while stream.read_exact(&mut bytes).is_ok() && stream.write_all(&bytes).is_ok()
                    {
                    }
                });
            }
        });
        let desk = Desk::with(policy(BY_PUBLISHED));
        let v4 = [version(2), protocol(TCP)].concat();
        let mut tables = one(&[v4.clone(), port(8088), to("10.44.8.20", Some(80))]);
        tables[0].rule("porter", &[v4, port(8090), to("10.44.8.20", Some(80))]);
        sluice.run(|| tables.into_iter().for_each(|it| give(it.batch))).expect("entered");
        desk.on(sluice, ["enforce", "--keep", "--even-if-locked-out"]).exits(0);

        let mut open = connected(street, "198.51.100.7:0", "192.0.2.10:8088").expect("let through");
        assert!(speaks(&mut open));
        for (from, there) in [
            ("203.0.113.9:0", "192.0.2.10:8088"),
            // Led from another port, and not led at all.
            ("198.51.100.7:0", "192.0.2.10:8090"),
            ("198.51.100.7:0", "10.44.8.20:80"),
        ] {
            assert!(connected(street, from, there).is_none(), "{from} {there}");
        }
        let asked = |from: &str, traffic: &str| {
            let words = ["ask", "--live", "--from", from, "--traffic", traffic];
            let told = desk.on(sluice, words.iter().chain(&["--format", "json"])).json();
            format!("{} by {}", text(&told["verdict"]), text(&told["decided_by"]["name"]))
        };
        assert_eq!(asked("198.51.100.7", "8088/tcp"), "allow by reading-room");
        assert_eq!(asked("203.0.113.9", "8088/tcp"), "deny by default/forwarded");
        assert_eq!(asked("198.51.100.7", "8090/tcp"), "deny by default/forwarded");
        // Without the machine it depends on whether, and from where, it was led.
        let there = ["ask", "--direction", "forwarded", "--from", "198.51.100.7", "--to"];
        let there: Vec<&str> = [&there[..], &["10.44.8.20", "--traffic", "80/tcp"]].concat();
        let told = desk.run(&there).exits(1).stdout;
        assert!(told.contains("--published") && told.contains("led here from 8088"), "{told}");
        let told = desk.run(there.iter().chain(&["--published", "8088"])).exits(0).stdout;
        assert!(told.contains("reading-room") && told.contains("led here from 8088"), "{told}");
        let told = desk.run(there.iter().chain(&["--published", "0"])).exits(0).stdout;
        assert!(told.contains("default/forwarded"), "{told}");
        let shown = desk.run(["show"]).exits(0).stdout;
        assert!(shown.contains("published at 8088/tcp"), "{shown}");

        // A copy is tried from whoever fares otherwise where the port leads.
        let words = ["rehearse", "--live", "--format", "json", "--traffic", "8088/tcp"];
        let tried = desk.on(sluice, words).exits(0).json();
        assert_eq!((&tried["disagreements"], &tried["not_known"]), (&0.into(), &0.into()));
        let passed_on = |place: &str| {
            let rows = tried["rows"].as_array().expect("a list").iter();
            let mut of = rows.filter(|it| it["from"] == place && it["version"] == "IPv4");
            text(&of.next().expect("it is tried")["passed_on"])
        };
        assert_eq!((&*passed_on("curators"), &*passed_on("elsewhere")), ("8088/tcp", ""));

        // What has been let through is judged where it ends up: nothing lives on that is not admitted.
        let cut = ["--format", "json", "cut"];
        let living = |words: &[&str]| desk.on(sluice, words).exits(0).json()["living"].clone();
        assert_eq!(living(&[&cut[..], &["--dry-run"]].concat()), serde_json::json!([]));
        assert!(speaks(&mut open));
        desk.write(policy(""));
        desk.on(sluice, ["enforce", "--keep", "--even-if-locked-out"]).exits(0);
        assert!(speaks(&mut open), "it was admitted before");
        let ended = living(&cut);
        assert_eq!(ended.as_array().map(Vec::len), Some(1), "{ended}");
        assert_eq!((&ended[0]["to"], &ended[0]["ended"]), (&"10.44.8.20".into(), &true.into()));
        assert!(!speaks(&mut open), "it is ended");
    });
}

#[test]
fn published_ports_that_make_no_sense_are_refused() {
    let refused = |rule: &str, words: &[&str]| {
        let told = Desk::with(policy(rule)).run(["show"]).exits(2).stderr;
        for word in words {
            assert!(told.contains(word), "{word}: {told}");
        }
    };
    let with = |key: &str| BY_PUBLISHED.replace("published = [\"8088/tcp\"]", key);
    refused(&with("published = [\"icmp\"]"), &["`icmp` is more than ports, or none", "8088/tcp"]);
    refused(&with("published = [\"0/tcp\"]"), &["there is no port 0"]);
    refused(&with("published = [\"!8088/tcp\"]"), &["`!8088/tcp` leaves something out"]);
    refused(&with("published = [\"8088\"]"), &["8088", "protocol"]);
    refused(&with("published = []"), &["published"]);
    let outbound = BY_PUBLISHED.replace("forwarded", "outbound");
    refused(&outbound, &["what leaves this host was not led to it"]);
    let other = BY_PUBLISHED.replace("\"any\"", "\"53/udp\"");
    refused(&other, &["other protocols than the published ports"]);
    let told = Desk::with(policy(BY_PUBLISHED)).run([
        "ask",
        "--direction",
        "forwarded",
        "--from",
        "198.51.100.7",
        "--to",
        "10.44.8.20",
        "--traffic",
        "icmp",
        "--published",
        "8088",
    ]);
    let told = told.exits(2).stderr;
    assert!(told.contains("are led here from no port"), "{told}");
}
