//! Who came is remembered by the kernel, and told.

use crate::harness::{Desk, Outcome};
use serde_json::Value;
use std::io;
use std::net::{SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::thread::sleep;
use std::time::Duration;
use tipstaff_linux::lab::testing::{connect_from, sealed, street_sluice_granary};
use tipstaff_linux::lab::{Lab, Node};

const POLICY: &str = "edition = 1\n\
    [place.street]\naddresses = [\"203.0.113.0/24\", \"2001:db8:bad::/64\"]\n\
    [place.pilots]\naddresses = [\"198.51.100.0/24\"]\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\nrecord = \"all\"\n\
    [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\"]\n\
    [[host.sluice.rule]]\nname = \"nuisance\"\ndeny = [\"22/tcp\", \"123/udp\"]\nfrom = [\"street\"]\n\
    [[host.sluice.rule]]\nname = \"no-shell\"\nreject = [\"22/tcp\"]\n";

pub struct World {
    pub desk: Desk,
    lab: Lab,
}

impl World {
    pub fn with(policy: &str) -> Self {
        Self { desk: Desk::with(policy), lab: street_sluice_granary() }
    }

    pub fn node(&self, name: &str) -> &Node {
        self.lab.node(name).expect("it")
    }

    pub fn run(&self, args: &[&str]) -> Outcome {
        self.desk.on(self.node("sluice"), ["--host", "sluice"].iter().chain(args))
    }

    pub fn enforce(&self) {
        self.run(&["enforce", "--keep"]).exits(0);
    }

    /// Datagrams from the street, which are never answered.
    pub fn say(&self, from: &str, to: &str, times: usize) {
        let caller = self.node("street").run(|| UdpSocket::bind((from, 0)));
        let caller = caller.expect("entered").expect("bound");
        for _ in 0..times {
            caller.send_to(b"time?", to).expect("sent");
        }
    }

    /// A connection that is tried, and not answered in time.
    pub fn knock(&self, from: &str, to: &str) -> bool {
        self.open(from, to).is_ok()
    }

    /// The same, kept.
    pub fn open(&self, from: &str, to: &str) -> io::Result<TcpStream> {
        let client: SocketAddr = SocketAddr::new(from.parse().expect("an address"), 0);
        let server: SocketAddr = to.parse().expect("an address");
        self.node("street").run(|| connect_from(client, server)).expect("entered")
    }

    fn callers(&self, args: &[&str]) -> Vec<Value> {
        let all: Vec<&str> = ["callers", "--format", "json"].iter().chain(args).copied().collect();
        let told = self.run(&all).exits(0);
        told.json()["callers"].as_array().expect("a list").clone()
    }
}

/// Who, for what, how often, how it fared and by which decision.
fn short(row: &Value) -> (String, String, u64, String, String) {
    let word = |it: &Value| it.as_str().unwrap_or("-").to_owned();
    let traffic = word(&row["traffic"][0]);
    let count = row["count"].as_u64().expect("a number");
    (word(&row["who"]), traffic, count, word(&row["fared"]), word(&row["by"][0]))
}

#[test]
fn whoever_came_is_told_with_what_was_decided() {
    sealed("remembering::whoever_came_is_told_with_what_was_decided", || {
        let world = World::with(POLICY);
        world.enforce();
        let shop = world.node("sluice").run(|| TcpListener::bind("[::]:443"));
        let _shop = shop.expect("entered").expect("bound");
        assert!(world.knock("198.51.100.7", "192.0.2.10:443"));
        assert!(world.knock("2001:db8:51::7", "[2001:db8:2::10]:443"));
        assert!(!world.knock("198.51.100.7", "192.0.2.10:22"), "refused");
        world.say("203.0.113.9", "192.0.2.10:123", 3);
        world.say("2001:db8:bad::9", "[2001:db8:2::10]:123", 2);
        world.say("198.51.100.7", "192.0.2.10:53", 1);
        sleep(Duration::from_millis(50));

        let mut all: Vec<_> = world.callers(&[]).iter().map(short).collect();
        all.sort();
        let row = |who: &str, what: &str, count, fared: &str, by: &str| {
            (who.into(), what.into(), count, fared.into(), by.into())
        };
        assert_eq!(
            all,
            [
                row("198.51.100.7", "22/tcp", 1, "denied", "no-shell"),
                row("198.51.100.7", "443/tcp", 1, "admitted", "catalogue"),
                row("198.51.100.7", "53/udp", 1, "denied", "default/inbound"),
                row("2001:db8:51::7", "443/tcp", 1, "admitted", "catalogue"),
                row("2001:db8:bad::9", "123/udp", 2, "denied", "nuisance"),
                row("203.0.113.9", "123/udp", 3, "denied", "nuisance"),
            ]
        );
        let count = |args: &[&str]| world.callers(args).len();
        assert_eq!(count(&["--denied"]), 4);
        assert_eq!(count(&["--allowed"]), 2);
        assert_eq!(count(&["--rule", "nuisance"]), 2);
        assert_eq!(count(&["--from", "street"]), 2);
        assert_eq!(count(&["--from", "pilots", "203.0.113.0/28"]), 4);
        assert_eq!(count(&["--traffic", "123/udp", "443/tcp"]), 4);
        assert_eq!(count(&["--since", "1h"]), 6);
        assert_eq!(count(&["--new"]), 6);
        sleep(Duration::from_millis(1_100));
        assert_eq!(count(&["--since", "1s"]), 0);
        let by_port = world.callers(&["--by", "port"]);
        assert_eq!(by_port[0]["traffic"][0], "123/udp");
        assert_eq!(
            (by_port[0]["count"].as_u64(), by_port[0]["senders"].as_u64()),
            (Some(5), Some(2))
        );
        let by_sender = world.callers(&["--by", "sender"]);
        assert_eq!(by_sender.len(), 4);
        assert_eq!(world.callers(&["--by", "rule"]).len(), 4);
        assert_eq!(world.callers(&["--by", "network"]).len(), 4);

        // What it says would admit somebody does so, and exactly that.
        for row in world.callers(&["--denied"]) {
            let command = row["admit"].as_str().expect("a command").to_owned();
            let args: Vec<&str> = command.split(' ').skip(1).chain(["--dry-run"]).collect();
            let effect = world.run(&args);
            assert!(effect.stdout.contains("opens"), "{command}: {}", effect.stdout);
            let command = row["turn_away"].as_str().expect("a command").to_owned();
            let args: Vec<&str> = command.split(' ').skip(1).chain(["--dry-run"]).collect();
            assert!([0, 1].contains(&world.run(&args).code), "{command}");
        }
        let text = world.run(&["callers"]).exits(0).stdout;
        println!("{text}");
        assert!(text.contains("denied by nuisance") && text.contains("(street)"), "{text}");
        let sheet = world.run(&["callers", "--format", "csv"]).stdout;
        assert_eq!(sheet.lines().count(), 7, "{sheet}");
        let wrong = world.run(&["callers", "--rule", "nuisanse"]);
        assert_eq!(wrong.code, 2);
        assert!(wrong.stderr.contains("did you mean `nuisance`?"), "{}", wrong.stderr);

        assert_eq!(world.run(&["callers", "--clear"]).stdout, "forgotten: 6 entries\n");
        assert_eq!(count(&[]), 0);
    });
}

#[test]
fn it_is_carried_over_when_rules_are_replaced() {
    sealed("remembering::it_is_carried_over_when_rules_are_replaced", || {
        let world = World::with(POLICY);
        world.enforce();
        world.say("203.0.113.9", "192.0.2.10:123", 3);
        world.say("2001:db8:bad::9", "[2001:db8:2::10]:123", 2);
        sleep(Duration::from_millis(1_200));
        world.desk.write(POLICY.replace("nuisance", "nightly"));
        world.enforce();
        // The rule that decided then is gone; its name is not.
        world.say("203.0.113.9", "192.0.2.10:123", 1);
        sleep(Duration::from_millis(50));
        let mut all: Vec<_> = world.callers(&[]).iter().map(short).collect();
        all.sort();
        let denied = |who: &str, count, by: &str| {
            (who.to_owned(), "123/udp".to_owned(), count, "denied".to_owned(), by.to_owned())
        };
        assert_eq!(
            all,
            [
                denied("2001:db8:bad::9", 2, "nuisance"),
                denied("203.0.113.9", 1, "nightly"),
                denied("203.0.113.9", 3, "nuisance"),
            ]
        );
        let ages: Vec<u64> = world
            .callers(&["--rule", "nuisance"])
            .iter()
            .flat_map(|it| [it["first_seconds_ago"].as_u64(), it["last_seconds_ago"].as_u64()])
            .map(|it| it.expect("known"))
            .collect();
        assert!(ages.iter().all(|it| (1..30).contains(it)), "{ages:?}");
        world.desk.write(POLICY);
        world.enforce();
        world.say("203.0.113.9", "192.0.2.10:123", 2);
        sleep(Duration::from_millis(50));
        let found = world.callers(&["--rule", "nuisance", "--from", "203.0.113.9"]);
        assert_eq!(found[0]["count"].as_u64(), Some(5));

        world.desk.write(POLICY.replace("record = \"all\"", "record = \"off\""));
        world.enforce();
        let off = world.run(&["callers"]);
        assert_eq!(off.code, 1, "{}", off.stdout);
        assert!(off.stderr.contains("nothing is remembered"), "{}", off.stderr);
    });
}
