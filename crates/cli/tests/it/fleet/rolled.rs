//! From the office to the hosts, in steps; and back.

use super::world::{HOSTS, World};
use crate::harness::{INHERITED, MENDED};
use crate::metrics::samples;
use serde_json::Value;
use std::fs;
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::Machine as _;
use tipstaff_linux::lab::testing::sealed;

#[test]
fn hosts_take_what_they_are_told_to() {
    sealed("fleet::rolled::hosts_take_what_they_are_told_to", || {
        let mut world = World::new(INHERITED);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        // Sealed is not rolled out.
        let nothing = world.on("sluice", &["fleet", "take", "--format", "json"]).exits(0).json();
        assert_eq!(nothing["done"], "nothing-new");
        for host in HOSTS {
            world.attend(host);
        }
        let done = world.office.fleet(&["roll-out", "--format", "json"]).exits(0).json();
        assert_eq!(
            (&done["done"], &done["have"]),
            (&true.into(), &HOSTS.to_vec().into()),
            "{done}"
        );
        for host in HOSTS {
            world.until(host, "well", 1);
            world.in_force(host);
        }
        // The next, to one label only; the others go on as they are.
        world.office.seals(MENDED);
        let some = world.office.fleet(&["roll-out", "--to", "store", "--format", "json"]).exits(0);
        assert_eq!(some.json()["have"], serde_json::json!(["granary"]));
        world.until("granary", "well", 2);
        world.until("sluice", "well", 1);
        world.office.fleet(&["hold", "--why", "looked at first"]).exits(0);
        let told = world.office.fleet(&["status"]).exits(0).stdout;
        assert!(told.contains("the roll-out is held: looked at first"), "{told}");
        world.office.fleet(&["roll-out"]).exits(0);
        // And back: under a new number, to all that have it.
        let undone =
            world.office.fleet(&["undo", "--key", "key", "--format", "json"]).exits(0).json();
        assert_eq!(undone["sealed"]["statement"]["sequence"], 3);
        for host in HOSTS {
            world.until(host, "well", 3);
            world.in_force(host);
            let policy = fs::read_to_string(world.policy(host).join("policy.toml"));
            assert_eq!(policy.expect("its policy"), INHERITED);
        }
        let told = world.office.fleet(&["status", "--format", "openmetrics"]).exits(0).stdout;
        let samples = samples(&told);
        let sample = |name: &str| samples.get(name).copied();
        assert_eq!(sample("tipstaff_fleet_newest{fleet=\"tidewater\"}"), Some(3.0), "{told}");
        let well = "tipstaff_fleet_hosts{fleet=\"tidewater\",stands=\"well\"}";
        assert_eq!(sample(well), Some(3.0), "{told}");
        let number = "tipstaff_fleet_host_number{fleet=\"tidewater\",host=\"sluice\"}";
        assert_eq!(sample(number), Some(3.0), "{told}");
        let unknown = world.office.fleet(&["roll-out", "--to", "nowhere"]).exits(2).stderr;
        assert!(unknown.contains("its labels are desk, edge, store"), "{unknown}");
    });
}

#[test]
fn what_is_older_is_refused_also_after_a_disk_was_brought_back() {
    sealed("fleet::rolled::what_is_older_is_refused_also_after_a_disk_was_brought_back", || {
        let mut world = World::new(INHERITED);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        world.office.seals(MENDED);
        world.order(1, 2, &["granary"]);
        let take = |world: &World| world.on("granary", &["fleet", "take", "--format", "json"]);
        assert_eq!(take(&world).exits(0).json()["done"], "taken");
        world.in_force("granary");
        let kept = world.office.desk.kept_by("granary");
        let (seen, member) = (kept.join("fleet-seen.json"), kept.join("fleet-member.json"));
        world.order(2, 1, &["granary"]);
        assert_eq!(take(&world).exits(1).json()["refused"]["code"], "older");
        // As if what is kept of it were of before.
        fs::remove_file(&seen).expect("removed");
        fs::remove_file(&member).expect("removed");
        fs::remove_file(kept.join("fleet-taken.sealed")).expect("removed");
        let local = take(&world).exits(1).json();
        assert_eq!(local["refused"]["code"], "changed-here", "{local}");
        // Whoever takes once says so, though nobody attends.
        let stands = world.stands("granary");
        let said = (&stands["said"]["seen"]["number"], &stands["said"]["refused"]["code"]);
        assert_eq!(said, (&2.into(), &"changed-here".into()), "{stands}");
        let over = ["fleet", "take", "--over-local", "--format", "json"];
        let older = world.on("granary", &over).exits(1).json();
        assert_eq!(older["refused"]["code"], "older", "{older}");
        // Damaged in both places: nothing is known, so nothing is taken.
        fs::write(&seen, "{}").expect("written");
        let beside = world.office.desk.note_of("granary");
        let beside = beside.with_file_name("boot-note.granary.fleet-seen.json");
        assert!(beside.exists(), "{}", beside.display());
        fs::write(&beside, "\u{0}").expect("written");
        let unknown = world.on("granary", &over).exits(3).stderr;
        assert!(
            unknown.contains("what this host has seen of the fleet cannot be read"),
            "{unknown}"
        );
        fs::remove_file(&beside).expect("removed");
        fs::remove_file(&seen).expect("removed");
        world.in_force("granary");
        // Nothing is left on this machine: it still said at the carrier what it had.
        world.order(3, 2, &["granary"]);
        world.on("granary", &["fleet", "take", "--over-local"]).exits(0);
        world.attend("granary");
        world.until("granary", "well", 2);
        world.end("granary");
        for file in [&seen, &member, &kept.join("fleet-taken.sealed"), &beside] {
            fs::remove_file(file).expect("removed");
        }
        fs::remove_dir_all(world.policy("granary")).expect("removed");
        world.order(4, 1, &["granary"]);
        // Nor by what it says itself when it has forgotten all: neither once nor while it attends.
        for _ in 0..2 {
            let older = take(&world).exits(1).json();
            assert_eq!(older["refused"]["code"], "older", "{older}");
        }
        world.attend("granary");
        let began = Instant::now();
        while began.elapsed() < Duration::from_secs(3) {
            let said = world.stands("granary")["said"].clone();
            assert_eq!(
                (&said["has"], &said["seen"]["number"]),
                (&Value::Null, &2.into()),
                "{said}"
            );
            sleep(Duration::from_millis(300));
        }
        world.end("granary");
        let older = take(&world).exits(1).json();
        assert_eq!(older["refused"]["code"], "older", "{older}");
    });
}

#[test]
fn what_was_changed_on_the_machine_is_not_overwritten() {
    sealed("fleet::rolled::what_was_changed_on_the_machine_is_not_overwritten", || {
        let mut world = World::new(INHERITED);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        world.order(1, 1, &HOSTS);
        world.on("bench", &["fleet", "take"]).exits(0);
        // An emergency, at night.
        world
            .on("bench", &["rule", "add", "night", "--allow", "22/tcp", "--from", "stacks"])
            .exits(0);
        world.on("bench", &["enforce", "--keep"]).exits(0);
        world.attend("bench");
        let stands = world.until("bench", "changed-here", 1);
        assert_eq!(stands["said"]["in_force"], false, "{stands}");
        world.office.seals(MENDED);
        let stopped = world.office.fleet(&["roll-out", "--steps", "3"]).exits(1).stdout;
        assert!(stopped.contains("bench (changed-here)"), "{stopped}");
        let own =
            fs::read_to_string(world.policy("bench").join("policy.toml")).expect("its policy");
        assert!(own.contains("night"), "{own}");
        // Who looked at it gives it up.
        world.office.fleet(&["roll-out", "--steps", "3", "--patience", "0s"]).exits(1);
        world.order(99, 2, &HOSTS);
        world.on("bench", &["fleet", "take", "--over-local"]).exits(0);
        world.until("bench", "well", 2);
        world.in_force("bench");
    });
}

#[test]
fn what_another_put_there_is_not_taken() {
    sealed("fleet::rolled::what_another_put_there_is_not_taken", || {
        let world = World::new(MENDED);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        let bytes = fs::read(world.office.bundle(1)).expect("it");
        let take = |code: i32| {
            let taken =
                world.on("sluice", &["fleet", "take", "--format", "json"]).exits(code).json();
            taken["refused"]["code"].as_str().unwrap_or_default().to_owned()
        };
        // Under a number that is not its own.
        fs::write(world.office.bundle(9), &bytes).expect("written");
        world.order(1, 9, &["sluice"]);
        assert_eq!(take(1), "another-number");
        world.order(2, 8, &["sluice"]);
        assert_eq!(take(1), "missing");
        let mut altered = bytes.clone();
        altered[3_000] ^= 1;
        fs::write(world.office.bundle(1), &altered).expect("written");
        world.order(3, 1, &["sluice"]);
        assert_ne!(take(1), "");
        let read = || tipstaff_linux::Here.rules().expect("read").is_some();
        assert!(!world.node("sluice").run(read).expect("entered"), "nothing may be in force");
        // A policy that is a file cannot be a folder.
        fs::write(world.policy("bench"), MENDED).expect("written");
        let file = world.on("bench", &["fleet", "take"]).exits(2).stderr;
        assert!(file.contains("has its policy in a folder"), "{file}");
        fs::write(world.office.bundle(1), &bytes).expect("written");
        assert_eq!(take(0), "");
        world.in_force("sluice");
    });
}
