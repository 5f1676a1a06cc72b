//! Decisions as they are made, line by line.

use crate::remembering::World;
use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Stdio};
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::watching::watchers;
use tipstaff_linux::{NetlinkSocket, Protocol};

const POLICY: &str = "edition = 1\n\
    [place.street]\naddresses = [\"203.0.113.0/24\", \"2001:db8:bad::/64\"]\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n\
    [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\"]\n\
    [[host.sluice.rule]]\nname = \"nuisance\"\ndeny = [\"123/udp\"]\nfrom = [\"street\"]\n\
    [[host.sluice.rule]]\nname = \"no-mail\"\nreject = [\"25/tcp\"]\n";

impl World {
    pub fn watch(&self, args: &[&str]) -> Child {
        self.watch_trusting(None, args)
    }

    /// Likewise, trusting the certificates of a file alone.
    pub fn watch_trusting(&self, file: Option<&Path>, args: &[&str]) -> Child {
        let all = ["--host", "sluice", "watch"].iter().chain(args);
        let mut command = self.desk.command(all);
        command.envs(file.map(|it| ("SSL_CERT_FILE", it)));
        command.stdout(Stdio::piped()).stderr(Stdio::piped());
        self.node("sluice").start_here(&mut command).expect("it can start there");
        let before = self.watchers();
        let child = command.spawn().expect("started");
        let began = Instant::now();
        while self.watchers() == before {
            assert!(began.elapsed() < Duration::from_secs(60), "it does not begin");
            sleep(Duration::from_millis(5));
        }
        child
    }

    fn is_watched(&self) -> bool {
        self.watchers() > 0
    }

    fn watchers(&self) -> usize {
        let look = || watchers(&mut NetlinkSocket::open(Protocol::Netfilter).expect("a socket"));
        self.node("sluice").run(look).expect("entered").expect("read")
    }
}

#[test]
fn each_decision_is_a_line() {
    sealed("watching::each_decision_is_a_line", || {
        let world = World::with(POLICY);
        assert_eq!(world.run(&["watch"]).code, 1, "nothing is in force");
        world.enforce();
        let shop = world.node("sluice").run(|| std::net::TcpListener::bind("[::]:443"));
        let _shop = shop.expect("entered").expect("bound");
        let json = world.watch(&["--count", "9", "--format", "json"]);
        let only = world.watch(&["--count", "2", "from", "street", "denied", "port", "123"]);
        assert!(world.knock("198.51.100.7", "192.0.2.10:443"));
        world.say("203.0.113.9", "192.0.2.10:123", 3);
        world.say("2001:db8:bad::9", "[2001:db8:2::10]:123", 3);
        assert!(!world.knock("203.0.113.9", "192.0.2.10:25"));
        world.say("203.0.113.9", "192.0.2.10:9", 1);
        let out = json.wait_with_output().expect("ended");
        assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
        let text = String::from_utf8(out.stdout).expect("a text");
        let lines: Vec<Value> =
            text.lines().map(|it| serde_json::from_str(it).expect("JSON")).collect();
        let told: Vec<String> = lines
            .iter()
            .map(|it| {
                let word = |key: &str| it[key].as_str().unwrap_or("-").to_owned();
                format!(
                    "{} {} {} {} {}",
                    word("verdict"),
                    word("by"),
                    word("from"),
                    word("traffic"),
                    it["places"]
                )
            })
            .collect();
        assert_eq!(told[0], "allow catalogue 198.51.100.7 443/tcp []", "{told:#?}");
        let times = |line: &str| told.iter().filter(|it| *it == line).count();
        assert_eq!(times("deny nuisance 203.0.113.9 123/udp [\"street\"]"), 3, "{told:#?}");
        assert_eq!(times("deny nuisance 2001:db8:bad::9 123/udp [\"street\"]"), 3, "{told:#?}");
        assert_eq!(times("reject no-mail 203.0.113.9 25/tcp [\"street\"]"), 1, "{told:#?}");
        let out = only.wait_with_output().expect("ended");
        let text = String::from_utf8(out.stdout).expect("a text");
        println!("{text}");
        assert_eq!(text.lines().count(), 2);
        let said = "deny    123/udp (ntp) from 203.0.113.9 to 192.0.2.10 (street) by nuisance";
        assert!(text.lines().all(|it| it.ends_with(said)), "{text}");
        assert!(!world.is_watched());

        let wrong = world.run(&["watch", "fron", "street"]);
        assert_eq!(wrong.code, 2);
        assert!(wrong.stderr.contains("did you mean `from`?"), "{}", wrong.stderr);
        for wrong in
            [&["port"][..], &["port", "x"], &["port", "9-2"], &["from", "nowhere"], &["22/xyz"]]
        {
            let all: Vec<&str> = ["watch"].iter().chain(wrong).copied().collect();
            assert_eq!(world.run(&all).code, 2, "{wrong:?}");
        }
    });
}

#[test]
fn whoever_is_killed_while_watching_leaves_nothing_behind() {
    sealed("watching::whoever_is_killed_while_watching_leaves_nothing_behind", || {
        let world = World::with(POLICY);
        world.enforce();
        let before = world.run(&["status", "--format", "json"]).exits(0).json();
        for moment in 0..100_u64 {
            let all = ["--host", "sluice", "watch", "--format", "json"];
            let mut command = world.desk.command(all);
            command.stdout(Stdio::null()).stderr(Stdio::null());
            world.node("sluice").start_here(&mut command).expect("it can start there");
            let mut child = command.spawn().expect("started");
            // From before it begins to well after.
            sleep(Duration::from_micros(moment * 700));
            world.say("203.0.113.9", "192.0.2.10:123", 2);
            child.kill().expect("killed");
            child.wait().expect("ended");
            assert!(!world.is_watched(), "after {moment}");
        }
        let after = world.run(&["status", "--format", "json"]).exits(0).json();
        assert_eq!(before["differences"], after["differences"]);
        assert_eq!(before["others"], after["others"]);
    });
}

#[test]
fn what_came_too_fast_is_counted_and_a_command_is_run() {
    sealed("watching::what_came_too_fast_is_counted_and_a_command_is_run", || {
        let world = World::with(POLICY);
        world.enforce();
        let note = world.desk.folder.path().join("note");
        let command = format!(
            "printf '%s %s %s\\n' $TIPSTAFF_FROM $TIPSTAFF_RULE $TIPSTAFF_DECISIONS >> {}",
            note.display()
        );
        let mut child = world.watch(&["--for", "6s", "--run", &command]);
        world.say("203.0.113.9", "192.0.2.10:123", 60_000);
        let mut lines = BufReader::new(child.stdout.take().expect("piped")).lines();
        let mut seen = 0_u64;
        let mut missed = 0_u64;
        while let Some(Ok(line)) = lines.next() {
            match line.strip_suffix(" more were not seen: too many came") {
                Some(count) => missed += count.replace(',', "").parse::<u64>().expect("a number"),
                None => seen += 1,
            }
        }
        assert!(child.wait().expect("ended").success());
        // Among what came too fast may be what the network needs, which is not shown.
        assert!((60_000..60_020).contains(&(seen + missed)), "{seen} and {missed}");
        assert!(seen > 5_000, "{seen}");
        let told = std::fs::read_to_string(note).expect("the command has run");
        assert!(told.starts_with("203.0.113.9 nuisance 1\n"), "{told}");
    });
}
