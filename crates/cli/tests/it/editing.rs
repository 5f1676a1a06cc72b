//! Changes of the policy from the command line: their effect is told, and they are written whole
//! or not at all.

use crate::harness::{Desk, INHERITED, finish};
use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::process::Stdio;
use std::time::Duration;

/// Runs a change on sluice and gives what it says.
fn on_sluice(desk: &Desk, args: &[&str]) -> String {
    desk.run(["--host", "sluice"].iter().chain(args)).exits(0).stdout
}

#[test]
fn every_change_tells_its_exact_effect() {
    let desk = Desk::with(INHERITED);
    let mut said = String::new();
    for change in [
        &["rule", "add", "shell-moved", "--allow", "2202/tcp", "--from", "curators", "--first"][..],
        &["rule", "add", "again", "--allow", "443/tcp", "--from", "curators"],
        &["rule", "move", "nuisance", "--before", "catalogue"],
        &["rule", "change", "catalogue", "--rate", "50/second per source", "--why", "Quieter"],
        &["rule", "change", "copies", "--reject", "873/tcp"],
        &["rule", "pause", "stacks-out"],
        &["rule", "resume", "stacks-out"],
        &["rule", "remove", "shell"],
        &["place", "change", "nuisance", "--addresses", "203.0.113.0/24"],
        &["place", "add", "metrics", "--addresses", "10.44.8.40", "fd44:8::40"],
        &["service", "add", "gauge", "--ports", "9100/tcp", "--why", "The gauge"],
        &["rule", "add", "gauge", "--allow", "gauge", "--from", "stacks", "!10.44.8.30"],
        &["defaults", "--inbound", "reject"],
    ] {
        said.push_str(&format!("$ tipstaff {}\n{}\n", change.join(" "), on_sluice(&desk, change)));
    }
    insta::assert_snapshot!(said);
    insta::assert_snapshot!("text_after_many_changes", desk.text());
}

#[test]
fn a_dry_run_writes_nothing_and_shows_the_lines() {
    let desk = Desk::with(INHERITED);
    let change = ["rule", "change", "database", "--from", "10.44.8.10", "--dry-run"];
    let said = desk.run(["--host", "granary"].iter().chain(&change)).exits(0).stdout;
    insta::assert_snapshot!(said);
    assert_eq!(desk.text(), INHERITED);
    let json = ["--host", "granary", "--format", "json"];
    let report = desk.run(json.iter().chain(&change)).exits(0).json();
    assert_eq!(report["written"], false);
    let change = &report["hosts"][0]["changes"][0];
    assert_eq!((&change["kind"], &change["direction"]), (&"closes".into(), &"inbound".into()));
    let region = &change["regions"][0];
    assert_eq!(region["from"], serde_json::json!(["stacks"]));
    assert_eq!(region["from_except"], serde_json::json!(["10.44.8.10"]));
    assert_eq!(change["before"]["by"]["name"], "database");
}

#[test]
fn changes_that_would_not_read_are_refused_and_lose_nothing() {
    let desk = Desk::with(INHERITED);
    let mut said = String::new();
    for change in [
        &["rule", "add", "x", "--allow", "22"][..],
        &["rule", "add", "shell", "--allow", "22/tcp"],
        &["rule", "change", "shel", "--from", "curators"],
        &["rule", "change", "shell"],
        &["rule", "move", "shell"],
        &["place", "remove", "stacks"],
        &["place", "change", "stacks", "--rename", "inside"],
        &["service", "remove", "web"],
        &["defaults", "--inbound", "alow"],
    ] {
        let outcome = desk.run(["--host", "sluice"].iter().chain(change)).exits(2);
        assert_eq!(outcome.stdout, "", "{change:?}");
        said.push_str(&format!("$ tipstaff {}\n{}\n", change.join(" "), outcome.stderr));
    }
    insta::assert_snapshot!(said);
    assert_eq!(desk.text(), INHERITED);
}

#[test]
fn a_broken_expectation_is_told_at_once() {
    let desk = Desk::with(format!(
        "{INHERITED}\n[[host.granary.expect]]\ntraffic = [\"873/tcp\"]\nverdict = \"deny\"\n\
         from = [\"stacks\"]\n"
    ));
    let change = ["--host", "granary", "rule", "change", "copies", "--drop", "from"];
    let outcome = desk.run(change).exits(1);
    assert!(outcome.stdout.contains("This breaks an expectation"), "{}", outcome.stdout);
    assert!(outcome.stdout.contains("but it is allow for a part of it, by `copies`"));
    // One that failed before is not broken by what comes next, whoever decides then.
    let more = ["--host", "granary", "rule", "add", "more", "--allow", "873/tcp", "--first"];
    let outcome = desk.run(more).exits(0);
    assert!(!outcome.stdout.contains("breaks an expectation"), "{}", outcome.stdout);
    // One that is new is told, although no packet fares otherwise.
    let new = ["--host", "granary", "expect", "add", "deny", "873/tcp", "--from", "203.0.113.9"];
    let outcome = desk.run(new).exits(1);
    assert!(outcome.stdout.contains("This does not hold"), "{}", outcome.stdout);
}

#[test]
fn owner_mode_and_links_inside_the_folder_are_kept() {
    let desk = Desk::with(INHERITED);
    let file = desk.path().join("policy.toml");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).expect("a mode");
    let before = fs::metadata(&file).expect("metadata");
    on_sluice(&desk, &["rule", "remove", "shell"]);
    let after = fs::metadata(&file).expect("metadata");
    assert_eq!(
        (after.mode(), after.uid(), after.gid()),
        (before.mode(), before.uid(), before.gid())
    );
    assert_ne!(after.ino(), before.ino(), "it was replaced, not written over");

    // A link within the folder stays one; one that leads out is not followed.
    fs::rename(&file, desk.path().join("real.toml")).expect("renamed");
    symlink("real.toml", &file).expect("a link");
    on_sluice(&desk, &["rule", "remove", "nuisance"]);
    assert!(fs::symlink_metadata(&file).expect("metadata").is_symlink());
    assert!(!desk.text().contains("Added in a hurry"));
    let elsewhere = tempfile::tempdir().expect("a folder");
    let target = elsewhere.path().join("real.toml");
    fs::rename(desk.path().join("real.toml"), &target).expect("moved");
    fs::remove_file(&file).expect("removed");
    symlink(&target, &file).expect("a link");
    let before = desk.text();
    let outcome = desk.run(["--host", "sluice", "rule", "remove", "catalogue"]).exits(2);
    assert!(outcome.stderr.contains("is a link that leads out of its folder"));
    assert_eq!(desk.text(), before);
}

#[test]
fn changes_at_the_same_time_lose_nothing() {
    const WRITERS: usize = 8;
    const EACH: usize = 5;
    let desk = Desk::with(INHERITED);
    let one = |writer: usize| {
        for number in 0..EACH {
            let (name, port) = (format!("w{writer}-{number}"), 20_000 + writer * 100 + number);
            desk.run(["--host", "sluice", "rule", "add", &name, "--allow", &format!("{port}/tcp")])
                .exits(0);
        }
    };
    std::thread::scope(|scope| {
        for writer in 0..WRITERS {
            let one = &one;
            scope.spawn(move || one(writer));
        }
    });
    let list = desk.run(["--host", "sluice", "--format", "json", "rule", "list"]).exits(0).json();
    let names: BTreeSet<&str> = list["rules"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|rule| rule["name"].as_str())
        .filter(|name| name.starts_with('w'))
        .collect();
    assert_eq!(names.len(), WRITERS * EACH);
    let kept = fs::read_dir(desk.path()).expect("the folder").flatten().map(|it| it.file_name());
    assert_eq!(kept.collect::<BTreeSet<_>>().len(), 2, "the policy, and what it was");
}

#[test]
fn a_kill_at_any_moment_leaves_the_old_or_the_new_file() {
    const KILLS: u32 = 60;
    let desk = Desk::with(INHERITED);
    let mut whole = 0;
    for round in 0..KILLS {
        let before = desk.text();
        let name = format!("r{round}");
        let mut command =
            desk.command(["--host", "sluice", "rule", "add", &name, "--deny", "9/udp"]);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("runs");
        std::thread::sleep(Duration::from_micros(u64::from(round) * 1_500));
        child.kill().expect("killed, or done");
        child.wait().expect("ended");
        let after = desk.text();
        let added = format!("\n[[host.sluice.rule]]\nname = \"{name}\"\ndeny = [\"9/udp\"]\n");
        assert!(after == before || after.contains(&added), "old or new: {after}");
        assert_eq!(after.replace(&added, ""), before, "nothing else changed");
        whole += usize::from(after != before);
        // What a killed process leaves behind is in nobody's way.
        desk.run(["--host", "sluice", "show"]).exits(0);
    }
    assert!(whole > 0, "some were quick enough to be done");
}

#[test]
fn a_full_disk_changes_nothing() {
    let desk = Desk::with(INHERITED);
    // A limit on the size of files stands for a disk without room.
    let mut command = std::process::Command::new("/bin/sh");
    command
        .args(["-c", "trap '' XFSZ; ulimit -f 1; exec \"$0\" --policy policy.toml --host sluice rule remove shell"])
        .arg(env!("CARGO_BIN_EXE_tipstaff"))
        .current_dir(desk.path());
    let outcome = finish(command).exits(3);
    assert!(outcome.stderr.contains("nothing was changed"), "{}", outcome.stderr);
    assert_eq!(desk.text(), INHERITED);
    assert_eq!(fs::read_dir(desk.path()).expect("the folder").count(), 1);
}

#[test]
fn services_are_found_by_name_number_and_description() {
    let desk = Desk::with(INHERITED);
    for word in ["postgres", "5432", "PostgreSQL"] {
        let found = desk.run(["--format", "json", "service", "find", word]).exits(0).json();
        assert_eq!(found["names"][0]["name"], "postgresql", "{word}");
        assert_eq!(found["names"][0]["holds"], "5432/tcp");
    }
    let nowhere = tempfile::tempdir().expect("a folder");
    let mut command = desk.command(["service", "find", "ssh"]);
    command.current_dir(nowhere.path());
    assert!(finish(command).exits(0).stdout.contains("22/tcp"), "without a policy too");
}

#[test]
fn whoever_may_only_read_keeps_nobody_from_changing() {
    let desk = Desk::with(INHERITED);
    let file = desk.path().join("policy.toml");
    // Anybody who may read the file or its folder can have such locks.
    let exclusive = rustix::fs::FlockOperation::LockExclusive;
    let held: Vec<fs::File> = [desk.path().to_owned(), file.clone()]
        .into_iter()
        .map(|path| {
            let held = fs::File::open(path).expect("opened");
            rustix::fs::flock(&held, exclusive).expect("locked");
            held
        })
        .collect();
    let begun = std::time::Instant::now();
    desk.run(["--host", "sluice", "rule", "pause", "catalogue"]).exits(0);
    assert!(begun.elapsed() < Duration::from_secs(5));
    drop(held);
}

#[test]
fn extended_attributes_stay() {
    use rustix::fs::{XattrFlags, getxattr, setxattr};
    let desk = Desk::with(INHERITED);
    let file = desk.path().join("policy.toml");
    match setxattr(&file, "user.kept-by", b"duty", XattrFlags::empty()) {
        Err(rustix::io::Errno::OPNOTSUPP) => {
            println!("NOT RUN: this file system has no extended attributes");
            assert!(std::env::var_os("CI").is_none(), "under CI it must have them");
            return;
        }
        other => other.expect("set"),
    }
    desk.run(["--host", "sluice", "rule", "pause", "catalogue"]).exits(0);
    let mut value = [0; 16];
    let length = getxattr(&file, "user.kept-by", &mut value[..]).expect("it stays");
    assert_eq!(&value[..length], b"duty");
}
