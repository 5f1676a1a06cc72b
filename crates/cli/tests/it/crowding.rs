//! Enforcing where the docket cannot be written, and by two at once.

use crate::enforcing::{docket, on_sluice, pairs, status};
use crate::harness::{Desk, INHERITED, MENDED};
use rustix::mount::{MountFlags, mount, mount_remount};
use std::ffi::CStr;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use tipstaff_linux::lab::testing::sealed;

/// Puts a file system in memory where the docket is kept.
fn small_disk(desk: &Desk, size: &CStr) {
    fs::create_dir_all(desk.state()).expect("a folder");
    mount(c"small", desk.state(), c"tmpfs", MountFlags::empty(), size).expect("mounted");
}

#[test]
fn without_room_for_the_docket_nothing_is_changed() {
    sealed("crowding::without_room_for_the_docket_nothing_is_changed", || {
        let desk = Desk::with(INHERITED);
        small_disk(&desk, c"size=16k,mode=700");
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        fs::write(desk.state().join("filler"), vec![0; 64 * 1024]).expect_err("it is full");
        desk.write(MENDED);
        let refused = on_sluice(&desk, &["enforce", "--keep"]).exits(3);
        assert!(refused.stderr.contains("cannot keep the docket"), "{}", refused.stderr);
        desk.write(INHERITED);
        assert_eq!(status(&desk)["equal"], true, "the old rules stand");
        assert_eq!(docket(&desk), pairs(&[("enforce", "confirmed")]));
        // With room again, all is well.
        fs::remove_file(desk.state().join("filler")).expect("removed");
        desk.write(MENDED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        assert_eq!(status(&desk)["equal"], true);
    });
}

#[test]
fn with_a_docket_that_cannot_be_written_nothing_is_changed() {
    sealed("crowding::with_a_docket_that_cannot_be_written_nothing_is_changed", || {
        let desk = Desk::with(INHERITED);
        small_disk(&desk, c"size=1m,mode=700");
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        let flags = MountFlags::RDONLY;
        mount_remount(desk.state(), flags, "").expect("read-only from now on");
        desk.write(MENDED);
        for command in [&["enforce", "--keep"][..], &["enforce"], &["release", "--keep"]] {
            let refused = on_sluice(&desk, command).exits(3);
            assert!(refused.stderr.contains("Read-only file system"), "{}", refused.stderr);
        }
        desk.write(INHERITED);
        assert_eq!(status(&desk)["equal"], true, "the old rules stand");
    });
}

#[test]
fn of_two_at_once_one_waits_for_the_other() {
    sealed("crowding::of_two_at_once_one_waits_for_the_other", || {
        const EACH: usize = 6;
        let desk = Desk::with(INHERITED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        for (name, text) in [("a.toml", INHERITED), ("b.toml", MENDED)] {
            let file = desk.path().join(name);
            fs::write(&file, text).expect("written");
            fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).expect("a mode");
        }
        std::thread::scope(|scope| {
            for name in ["a.toml", "b.toml"] {
                let desk = &desk;
                scope.spawn(move || {
                    for _ in 0..EACH {
                        let args = ["--policy", name, "--host", "sluice", "enforce", "--keep"];
                        desk.run(args).exits(0);
                    }
                });
            }
        });
        let list = desk.run(["--format", "json", "docket"]).exits(0).json();
        let entries = list["entries"].as_array().expect("a list");
        assert!(entries.iter().all(|it| it["state"] == "confirmed"), "{entries:?}");
        let numbers: Vec<u64> = entries.iter().filter_map(|it| it["id"].as_u64()).collect();
        let expected: Vec<u64> = (1..=numbers.len() as u64).collect();
        assert_eq!(numbers, expected, "no entry is lost");
        // What is in force is what the last entry says.
        let last = numbers.last().expect("one").to_string();
        let shown = desk.run(["docket", "show", &last]).exits(0).stdout;
        desk.write(if shown.contains("2202/tcp") { MENDED } else { INHERITED });
        assert_eq!(status(&desk)["equal"], true);
    });
}
