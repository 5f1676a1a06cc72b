//! Files of places that are read anew by whoever attends.

use crate::harness::finish;
use crate::remembering::World;
use serde_json::Value;
use std::fs::{self, File};
use std::io::{BufRead, BufReader};
use std::net::TcpListener;
use std::process::{Child, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::thread::sleep;
use std::time::{Duration, Instant, SystemTime};
use tipstaff_linux::lab::testing::sealed;

const POLICY: &str = "edition = 1\n\
    [place.street]\nfile = \"street.txt\"\n\
    [host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\", \"10.44.8.10\"]\n\
    [[host.sluice.rule]]\nname = \"not-them\"\ndeny = [\"any\"]\nfrom = [\"street\"]\n\
    [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\", \"2202/tcp\"]\n";
const SECOND: Duration = Duration::from_secs(1);

struct Attending {
    process: Child,
    lines: Receiver<String>,
}

impl Attending {
    fn of(world: &World) -> Self {
        let mut command = world.desk.command(["--host", "sluice", "attend", "--format", "json"]);
        world.node("sluice").start_here(&mut command).expect("it can start there");
        command.stdout(Stdio::piped());
        let mut process = command.spawn().expect("it starts");
        let out = BufReader::new(process.stdout.take().expect("piped"));
        let (told, lines) = channel();
        std::thread::spawn(move || {
            out.lines().map_while(Result::ok).try_for_each(|it| told.send(it))
        });
        let began = Instant::now();
        let is_there = || {
            let told = world.run(&["status", "--format", "json"]).exits(0).json();
            told["attended"] == true
        };
        while !is_there() {
            assert!(began.elapsed() < Duration::from_secs(60), "it does not attend");
        }
        Self { process, lines }
    }

    /// What it says next of places.
    fn says(&self) -> Value {
        let line = self.lines.recv_timeout(Duration::from_secs(60)).expect("it speaks");
        let said: Value = serde_json::from_str(&line).expect("JSON");
        assert_eq!(said["what"], "places", "{said}");
        said
    }
}

impl Drop for Attending {
    fn drop(&mut self) {
        // A child of this test's own.
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

#[test]
fn what_is_written_into_a_list_is_in_force_soon() {
    sealed("attended_places::what_is_written_into_a_list_is_in_force_soon", || {
        let world = World::with(POLICY);
        let list = |text: &str| world.desk.put("street.txt", text);
        list("203.0.113.9\n");
        world.run(&["place", "refresh"]).exits(0);
        world.enforce();
        let shop = world.node("sluice").run(|| TcpListener::bind("[::]:443"));
        let _shop = shop.expect("entered").expect("bound");
        let knock = |from: &str| world.knock(from, "192.0.2.10:443");
        let told = world.run(&["status"]).exits(0).stdout;
        assert!(told.contains("not attended: files of places are read only by"), "{told}");
        // What was written while nobody attended is read as soon as somebody does.
        list("203.0.113.9\n203.0.113.66\n");
        let attending = Attending::of(&world);
        let said = attending.says();
        assert_eq!((&said["places"][0]["came"], &said["in_force"]), (&1.into(), &true.into()));
        assert!(!knock("203.0.113.66"));
        // Replaced whole, and written in place.
        let other = world.desk.path().join("other.txt");
        fs::write(&other, "203.0.113.66\n").expect("written");
        let began = Instant::now();
        fs::rename(&other, world.desk.path().join("street.txt")).expect("replaced");
        assert_eq!(attending.says()["places"][0]["gone"], 1);
        println!("{:?} after the list was replaced", began.elapsed());
        assert!(knock("203.0.113.9") && !knock("203.0.113.66"));
        // Whoever writes bit by bit is let finish; then once is enough.
        sleep(SECOND);
        for at in 1..8 {
            let all: String = (0..at).map(|it| format!("203.0.113.{}\n", 66 + it)).collect();
            list(&all);
            sleep(Duration::from_millis(300));
        }
        // Seven is more than twice one: that nobody meant, and it is said, once.
        let said = attending.says();
        let why = said["places"][0]["why"].to_string();
        assert!(said["places"][0]["done"] == "changed" || why.contains("twice"), "{said}");
        list("somebody\n");
        let said = attending.says();
        assert_eq!(said["places"][0]["done"], "refused", "{said}");
        assert!(!knock("203.0.113.66"));
        // Another list from now on.
        world.desk.put("others.txt", "203.0.113.9\n203.0.113.66\n");
        world.run(&["place", "change", "street", "--from-file", "others.txt"]).exits(0);
        let said = attending.says();
        assert_eq!(said["places"][0]["done"], "new", "{said}");
        world.run(&["enforce", "--keep"]).exits(0);
        world.desk.put("others.txt", "203.0.113.9\n");
        let said = attending.says();
        assert_eq!((&said["places"][0]["gone"], &said["in_force"]), (&1.into(), &true.into()));
        assert!(!knock("203.0.113.9") && knock("203.0.113.66"));
        world.run(&["status"]).exits(0);
    });
}

/// What nobody is told of is read once an hour, and when somebody begins to attend if it is older.
#[test]
fn what_is_old_is_read_anew() {
    sealed("attended_places::what_is_old_is_read_anew", || {
        let world = World::with(POLICY);
        world.desk.put("street.txt", "203.0.113.9\n");
        world.run(&["place", "refresh"]).exits(0);
        world.enforce();
        world.desk.put("street.txt", "203.0.113.66\n");
        let since = SystemTime::now() - Duration::from_secs(7_200);
        let aged = |name: &str, by: Duration| {
            let file = File::open(world.desk.path().join(name)).expect("opened");
            file.set_modified(since - by).expect("set");
        };
        // The list seems older than what was read of it.
        aged("policy.places/street.snapshot", Duration::ZERO);
        aged("street.txt", SECOND);
        let attending = Attending::of(&world);
        let said = attending.says();
        assert_eq!((&said["places"][0]["came"], &said["in_force"]), (&1.into(), &true.into()));
        world.run(&["status"]).exits(0);
        // Ended while it reads, nothing is lost.
        world.desk.put("street.txt", "203.0.113.9\n");
        sleep(Duration::from_millis(1_300));
        drop(attending);
        let attending = Attending::of(&world);
        let began = Instant::now();
        while world.desk.snapshot("street").is_none_or(|it| it.contains("203.0.113.66")) {
            assert!(began.elapsed() < Duration::from_secs(60), "it is not read");
            sleep(Duration::from_millis(50));
        }
        drop(attending);
        finish(world.desk.command(["place", "list"])).exits(0);
    });
}
