//! Decisions that the policy has the kernel report.

use crate::harness::Desk;
use crate::remembering::World;
use serde_json::Value;
use std::net::TcpListener;
use std::process::{Child, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::{Here, Machine as _};

const POLICY: &str = "edition = 1\n\
    [place.street]\naddresses = [\"203.0.113.0/24\", \"2001:db8:bad::/64\"]\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n\
    log = \"denied\"\nlog-at-most = [\"1/minute per source, burst 5\"]\n\
    [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\"]\n\
    [[host.sluice.rule]]\nname = \"nuisance\"\ndeny = [\"123/udp\"]\nfrom = [\"street\"]\n\
    [[host.sluice.rule]]\nname = \"mail\"\nreject = [\"25/tcp\"]\n";

impl World {
    fn logged(&self, args: &[&str]) -> Child {
        let all = ["--host", "sluice", "watch", "--logged"].iter().chain(args);
        let mut command = self.desk.command(all);
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
        self.node("sluice").start_here(&mut command).expect("it can start there");
        let child = command.spawn().expect("started");
        let began = Instant::now();
        let taken = || Here.reports_are_taken().expect("told");
        while !self.node("sluice").run(taken).expect("entered") {
            assert!(began.elapsed() < Duration::from_secs(60), "it does not begin");
            sleep(Duration::from_millis(5));
        }
        // It reads the rules then.
        sleep(Duration::from_millis(300));
        child
    }

    fn status(&self) -> Value {
        self.run(&["status", "--format", "json"]).exits(0).json()
    }
}

/// What became of whom by what, a line each, and how many are said not to have been seen.
fn told(child: Child) -> (Vec<String>, u64) {
    let out = child.wait_with_output().expect("ended");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let text = String::from_utf8(out.stdout).expect("a text");
    let values = text.lines().map(|it| serde_json::from_str::<Value>(it).expect("JSON"));
    let (losses, lines): (Vec<Value>, Vec<Value>) =
        values.partition(|it| it.get("not_seen").is_some());
    let word = |it: &Value, key: &str| it[key].as_str().unwrap_or("-").to_owned();
    let line = |it: &Value| {
        let [verdict, by, from, traffic] =
            ["verdict", "by", "from", "traffic"].map(|key| word(it, key));
        format!("{verdict} {by} {from} {traffic}")
    };
    let lost = losses.iter().filter_map(|it| it["not_seen"].as_u64()).sum();
    (lines.iter().map(line).collect(), lost)
}

#[test]
fn what_the_policy_says_is_logged_and_no_more() {
    sealed("logging::what_the_policy_says_is_logged_and_no_more", || {
        let world = World::with(POLICY);
        let nobody = "nobody takes what the rules report";
        let first = world.run(&["enforce", "--keep"]).exits(0);
        assert!(first.stdout.contains(nobody), "{}", first.stdout);
        let shop = world.node("sluice").run(|| TcpListener::bind("[::]:443"));
        let _shop = shop.expect("entered").expect("bound");
        let idle = world.run(&["status"]).exits(0).stdout;
        assert!(idle.contains("nobody takes it"), "{idle}");
        let logged = world.logged(&["--for", "2s", "--format", "json"]);
        assert!(!world.run(&["status"]).exits(0).stdout.contains("nobody takes it"));
        assert!(world.knock("198.51.100.7", "192.0.2.10:443"));
        assert!(!world.knock("198.51.100.7", "192.0.2.10:25"));
        world.say("203.0.113.9", "192.0.2.10:123", 9);
        world.say("2001:db8:bad::9", "[2001:db8:2::10]:123", 2);
        let (lines, lost) = told(logged);
        let times = |line: &str| lines.iter().filter(|it| *it == line).count();
        assert_eq!(times("reject mail 198.51.100.7 25/tcp"), 1, "{lines:#?}");
        assert_eq!(times("deny nuisance 203.0.113.9 123/udp"), 5, "{lines:#?}");
        assert_eq!(times("deny nuisance 2001:db8:bad::9 123/udp"), 2, "{lines:#?}");
        assert!(lines.iter().all(|it| !it.starts_with("allow ")), "{lines:#?}");
        assert!(lost >= 4, "{lost}");
        let status = world.status();
        let logging = &status["logging"];
        assert_eq!(logging["level"], "denied");
        assert_eq!(logging["at_most_of_one"], "1/minute per source, burst 5");
        assert_eq!(logging["at_most"], "100/second, burst 1000");
        assert_eq!((&logging["taken"], &logging["all_until"]), (&false.into(), &Value::Null));
        assert!(logging["beyond"].as_u64() >= Some(4), "{logging}");
        assert!(logging["reported"].as_u64() >= Some(8), "{logging}");
    });
}

#[test]
fn all_is_logged_for_a_time() {
    sealed("logging::all_is_logged_for_a_time", || {
        let world = World::with(POLICY);
        world.enforce();
        let shop = world.node("sluice").run(|| TcpListener::bind("[::]:443"));
        let _shop = shop.expect("entered").expect("bound");
        let until = || world.status()["logging"]["all_until"].clone();
        let raised = world.run(&["enforce", "--log-for", "1h"]).exits(0).stdout;
        assert!(raised.contains("all decisions are reported until"), "{raised}");
        let then = until();
        assert!(then.is_string(), "{then}");
        // Nothing waits to be confirmed, and nothing differs.
        assert_eq!(world.status()["docket"]["pending"], Value::Null);
        let logged = world.logged(&["--count", "1", "--format", "json"]);
        assert!(world.knock("198.51.100.7", "192.0.2.10:443"));
        assert_eq!(told(logged).0, ["allow catalogue 198.51.100.7 443/tcp"]);
        // Another change leaves it.
        world.run(&["rule", "add", "notes", "--allow", "22000/tcp"]).exits(0);
        world.run(&["enforce", "--keep"]).exits(0);
        assert_eq!(until(), then);
        world.run(&["enforce", "--log-for", "0"]).exits(0);
        assert_eq!(until(), Value::Null);
        assert_eq!(world.status()["logging"]["level"], "denied");
        // By itself.
        world.run(&["enforce", "--keep", "--log-for", "1s"]).exits(0);
        sleep(Duration::from_millis(2_100));
        assert_eq!(until(), Value::Null);
        let logged = world.logged(&["--for", "1s", "--format", "json"]);
        assert!(world.knock("198.51.100.7", "192.0.2.10:443"));
        assert_eq!(told(logged).0, Vec::<String>::new());
    });
}

#[test]
fn what_cannot_be_is_said_with_its_place() {
    for (line, said, help) in [
        ("log = \"deny\"", "`deny` is not a choice here", "expected one of: nothing, denied, all"),
        ("log = \"denid\"", "`denid` is not a choice here", "did you mean `denied`?"),
        ("log-at-most = \"9\"", "`9` is not a rate", "a rate such as `5/second`"),
        ("log-at-most = [\"9/day\", \"8/day\"]", "there is a cap for all together already", "one"),
        (
            "log-at-most = [\"9/day per source\", \"8/day per source\"]",
            "there is a cap for one sender already",
            "at most one rate, and one `per source`",
        ),
    ] {
        let desk = Desk::with(format!("edition = 1\n[host.sluice]\n{line}\n"));
        let outcome = desk.run(["show"]).exits(2);
        let text = &outcome.stderr;
        assert!(text.contains(said) && text.contains(help) && text.contains(":3:"), "{text}");
    }
}
