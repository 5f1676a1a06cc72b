//! Killed in between, and a carrier that is not what it seems.

use super::world::World;
use crate::harness::{INHERITED, MENDED};
use std::fs;
use std::os::unix::fs::symlink;
use std::process::Stdio;
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;

const TAKE: [&str; 4] = ["fleet", "take", "--format", "json"];

#[test]
fn whoever_is_killed_while_files_are_put_goes_on() {
    sealed("fleet::unlucky::whoever_is_killed_while_files_are_put_goes_on", || {
        let world = World::new(INHERITED);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        world.office.seals(MENDED);
        let kept = world.office.desk.kept_by("bench");
        let second = fs::read(world.office.bundle(2)).expect("it");
        let next = kept.join("fleet-next.sealed");
        // Before the folder was put, and behind it.
        for (by, files) in [(1, INHERITED), (3, MENDED)] {
            let _ = fs::remove_dir_all(world.policy("bench"));
            let _ = fs::remove_file(kept.join("fleet-member.json"));
            for file in ["fleet-seen.json", "fleet-taken.sealed"] {
                let _ = fs::remove_file(kept.join(file));
            }
            let note = world.office.desk.note_of("bench");
            let _ = fs::remove_file(note.with_file_name("boot-note.bench.fleet-seen.json"));
            let _ = fs::remove_file(world.office.path("carrier/hosts/bench.json"));
            world.order(by, 1, &["bench"]);
            world.on("bench", &TAKE).exits(0);
            fs::write(&next, &second).expect("written");
            fs::write(world.policy("bench").join("policy.toml"), files).expect("written");
            world.order(by + 1, 2, &["bench"]);
            let taken = world.on("bench", &TAKE).exits(0).json();
            assert_eq!((&taken["done"], &taken["has"]["number"]), (&"taken".into(), &2.into()));
            assert!(!next.exists());
            world.in_force("bench");
        }
    });
}

#[test]
fn killed_at_any_moment_the_next_one_takes_it() {
    sealed("fleet::unlucky::killed_at_any_moment_the_next_one_takes_it", || {
        let world = World::new(INHERITED);
        for turn in 1..=10u64 {
            let text = format!(
                "{INHERITED}\n[[host.bench.rule]]\nname = \"turn\"\nallow = [\"{}/tcp\"]\n",
                9_000 + turn
            );
            world.office.seals(&text);
            world.order(turn, turn, &["bench"]);
            let mut command = world.host("bench", &TAKE);
            command.stdout(Stdio::null()).stderr(Stdio::null());
            let mut taking = command.spawn().expect("it starts");
            sleep(Duration::from_millis(15 * turn));
            let _ = taking.kill();
            let _ = taking.wait();
            let began = Instant::now();
            loop {
                let taken = world.on("bench", &TAKE);
                if taken.code == 0 {
                    break;
                }
                // What waits to be confirmed goes back by itself first.
                assert!(began.elapsed() < Duration::from_secs(100), "turn {turn}: {taken:?}");
                sleep(Duration::from_millis(300));
            }
            world.in_force("bench");
            let policy = fs::read_to_string(world.policy("bench").join("policy.toml"));
            assert_eq!(policy.expect("its policy"), text, "turn {turn}");
        }
    });
}

#[test]
fn no_word_is_written_where_a_link_leads() {
    sealed("fleet::unlucky::no_word_is_written_where_a_link_leads", || {
        let world = World::new(MENDED);
        world.office.fleet(&["seal", "--key", "key"]).exits(0);
        world.order(1, 1, &["bench"]);
        let elsewhere = world.office.path("elsewhere");
        fs::create_dir(&elsewhere).expect("a folder");
        symlink(&elsewhere, world.office.path("carrier/hosts")).expect("a link");
        let taken = world.on("bench", &TAKE).exits(1).json();
        assert_eq!(taken["refused"]["code"], "went-back", "{taken}");
        assert_eq!(fs::read_dir(&elsewhere).expect("it").count(), 0);
        // Words that are none are nobody's.
        fs::remove_file(world.office.path("carrier/hosts")).expect("removed");
        let hosts = world.office.path("carrier/hosts");
        fs::create_dir(&hosts).expect("a folder");
        fs::write(hosts.join("sluice.json"), vec![b'x'; 2 * 1024 * 1024]).expect("written");
        fs::write(hosts.join("granary.json"), "{\"host\": \"bench\"}").expect("written");
        fs::write(hosts.join("..bench.json"), "{}").expect("written");
        fs::write(hosts.join("no host.json"), "{}").expect("written");
        let found = world.office.fleet(&["status", "--format", "json"]).exits(1).json();
        let stands = |name: &str| {
            let hosts = found["hosts"].as_array().expect("hosts");
            let host = hosts.iter().find(|it| it["host"] == name);
            host.map(|it| it["stands"].as_str().unwrap_or_default().to_owned())
        };
        assert_eq!(stands("granary").as_deref(), Some("silent"), "{found}");
        assert_eq!(stands("sluice").as_deref(), Some("waits"), "{found}");
        assert_eq!(found["hosts"].as_array().map(Vec::len), Some(3), "{found}");
    });
}
