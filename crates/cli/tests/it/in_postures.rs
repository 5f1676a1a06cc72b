//! Postures at boot, in commands that reason, and with the command of whoever takes one.

use crate::booting::Reboot;
use crate::harness::Desk;
use crate::postures::{POLICY, kill, those_who_see_it_out};
use crate::remembering::World;
use serde_json::Value;
use std::fs;
use std::net::TcpListener;
use std::process::Command;
use std::thread::sleep;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::sealed;

/// In another boot, as far as commands can see.
fn boot_anew(reboot: &Reboot, number: u32) {
    let file = reboot.desk.folder.path().join(format!("boot-{number}"));
    fs::write(&file, format!("00000000-0000-4000-8000-{number:012}\n")).expect("written");
    rustix::mount::mount_bind(&file, "/proc/sys/kernel/random/boot_id").expect("mounted");
    reboot.down();
}

#[test]
fn a_boot_begins_in_the_posture_in_which_it_is_to_begin() {
    sealed("in_postures::a_boot_begins_in_the_posture_in_which_it_is_to_begin", || {
        let reboot = Reboot::with(POLICY);
        let posture = |reboot: &Reboot| {
            let told = reboot.run(&["posture", "--format", "json"]).exits(0).json();
            told["posture"].as_str().unwrap_or_default().to_owned()
        };
        reboot.run(&["enforce", "--keep"]).exits(0);
        // What has an end is gone, and what has none stays.
        reboot.run(&["posture", "take", "showing", "--for", "1h"]).exits(0);
        boot_anew(&reboot, 1);
        reboot.boot(0);
        assert_eq!(
            (posture(&reboot).as_str(), reboot.open(443), reboot.open(2202)),
            ("", false, true)
        );
        reboot.run(&["posture", "take", "sealed", "--keep"]).exits(0);
        boot_anew(&reboot, 2);
        reboot.boot(0);
        assert_eq!((posture(&reboot).as_str(), reboot.open(2202)), ("sealed", false));
        reboot.run(&["status"]).exits(0);
        reboot.run(&["posture", "take", "showing", "--for", "1h"]).exits(0);
        boot_anew(&reboot, 8);
        reboot.boot(0);
        assert_eq!((posture(&reboot).as_str(), reboot.open(2202)), ("sealed", false), "behind it");
        reboot.run(&["posture", "leave", "--keep"]).exits(0);
        boot_anew(&reboot, 3);
        reboot.boot(0);
        assert_eq!((posture(&reboot).as_str(), reboot.open(2202)), ("", true));
        // The policy says in which each begins; also with nothing left but the note.
        let text = POLICY.replacen("[host.sluice]\n", "[host.sluice]\nat-boot = \"sealed\"\n", 1);
        reboot.desk.write(text);
        reboot.run(&["enforce", "--keep"]).exits(0);
        assert_eq!(posture(&reboot), "", "not before the next boot");
        for number in 4..6 {
            boot_anew(&reboot, number);
            reboot.boot(0);
            assert_eq!((posture(&reboot).as_str(), reboot.open(2202)), ("sealed", false));
            reboot.run(&["status"]).exits(0);
            reboot.run(&["posture", "leave", "--keep"]).exits(0);
            assert_eq!((posture(&reboot).as_str(), reboot.open(2202)), ("", true));
            // Rules that are put back while it runs are those of now.
            reboot.down();
            reboot.boot(0);
            assert_eq!((posture(&reboot).as_str(), reboot.open(2202)), ("", true));
        }
        boot_anew(&reboot, 7);
        fs::remove_file(reboot.kept("docket.jsonl")).expect("removed");
        reboot.boots();
        assert_eq!((posture(&reboot).as_str(), reboot.open(2202)), ("sealed", false));
    });
}

/// Every command that reasons can be asked about a posture.
#[test]
fn postures_are_reasoned_about_before_they_are_taken() {
    sealed("in_postures::postures_are_reasoned_about_before_they_are_taken", || {
        let expectation = "[[host.sluice.expect]]\ntraffic = [\"2202/tcp\"]\n\
            from = [\"203.0.113.0/24\"]\nverdict = \"deny\"\nposture = \"sealed\"\n";
        let world = World::with(&format!("{POLICY}{expectation}"));
        let run = |words: &[&str]| -> String { world.run(words).stdout };
        let shown = run(&["show", "--posture", "sealed"]);
        assert!(shown.contains("curators") && !shown.contains("\n  shell "), "{shown}");
        let asked = ["ask", "--traffic", "2202/tcp", "--from", "203.0.113.9"];
        assert_eq!(world.run(&asked).exits(0).code, 0);
        let within = [&asked[..], &["--posture", "sealed"]].concat();
        assert!(run(&within).contains("deny"), "{}", run(&within));
        let compared = run(&["compare", "--posture", "none", "--posture", "sealed"]);
        assert!(compared.contains("in no posture to") && compared.contains("closes"), "{compared}");
        assert_eq!(run(&["compare", "--posture", "sealed"]), compared);
        world.run(&["compare", "--posture", "sealed", "--posture", "sealed"]).exits(0);
        assert!(run(&["expect", "list"]).contains("sealed"));
        world.run(&["expect", "list"]).exits(0);
        world.run(&["review"]).exits(0);
        let rehearsed =
            ["rehearse", "--posture", "sealed", "--traffic", "2202/tcp", "--format", "json"];
        let told = world.run(&rehearsed).exits(0).json();
        assert_eq!(told["disagreements"], 0);
        // What breaks it in a posture is told at once, and by the review.
        let added = ["expect", "add", "deny", "443/tcp", "--posture", "showing", "--every-packet"];
        let told = run(&added);
        assert!(told.contains("does not hold") && told.contains("catalogue"), "{told}");
        let review = world.run(&["review"]);
        assert_eq!(review.code, 1);
        assert!(review.stdout.contains("in posture showing"), "{}", review.stdout);
    });
}

/// A command of whoever asks keeps all that they may do.
#[test]
fn the_command_has_the_rights_of_whoever_asks() {
    sealed("in_postures::the_command_has_the_rights_of_whoever_asks", || {
        let world = World::with(POLICY);
        world.enforce();
        let rights = |text: &str| {
            let line = text.lines().find(|it| it.starts_with("CapEff"));
            line.expect("told").to_owned()
        };
        let own = rights(&fs::read_to_string("/proc/self/status").expect("read"));
        let words = ["posture", "take", "showing", "--while", "cat", "/proc/self/status"];
        assert_eq!(rights(&world.run(&words).exits(0).stdout), own);
        let mut plain = Command::new("cat");
        let output = plain.arg("/proc/self/status").output().expect("run");
        assert_eq!(rights(&String::from_utf8_lossy(&output.stdout)), own);
    });
}

/// Rules, defaults and the baseline of a posture are changed like those of the host, with what that changes in it.
#[test]
fn postures_are_changed_from_the_command_line() {
    let desk = Desk::with(POLICY);
    let run = |words: &[&str]| desk.run(["--host", "sluice"].iter().chain(words));
    let added =
        run(&["rule", "add", "notes", "--allow", "22000/tcp", "--posture", "showing", "--first"]);
    let told = added.exits(0).stdout;
    assert!(told.contains("sluice, in posture showing") && told.contains("22000/tcp"), "{told}");
    let section = desk.text();
    let (before, behind) = section.split_once("name = \"notes\"").expect("written");
    assert!(before.ends_with("[[host.sluice.posture.showing.rule]]\n"), "{section}");
    assert!(behind.contains("name = \"catalogue\""), "ahead of the other one: {section}");
    run(&["rule", "change", "notes", "--allow", "22001/tcp", "--posture", "showing"]).exits(0);
    run(&["rule", "move", "notes", "--last", "--posture", "showing"]).exits(0);
    run(&["defaults", "--outbound", "deny", "--posture", "sealed"]).exits(0);
    run(&["baseline", "--outbound-replies", "off", "--posture", "sealed"]).exits(0);
    let shown = run(&["show", "--posture", "sealed"]).exits(0).stdout;
    assert!(shown.contains("default/outbound") && shown.contains("paused"), "{shown}");
    assert!(!run(&["show"]).exits(0).stdout.contains("22001"), "only in the posture");
    run(&["rule", "remove", "notes", "--posture", "showing"]).exits(0);
    for _ in 0..6 {
        run(&["undo"]).exits(0);
    }
    assert_eq!(desk.text(), POLICY);
    let unknown = run(&["rule", "add", "x", "--allow", "1/tcp", "--posture", "shwoing"]);
    assert_eq!(unknown.code, 2);
    assert!(
        unknown.stderr.contains("no posture `shwoing`; did you mean `showing`?"),
        "{}",
        unknown.stderr
    );
    // A posture that has no heading of its own has no place for what it says itself; nothing is written.
    let headless =
        POLICY.replace("[host.sluice.posture.showing]\nwhy = \"Visitors see the catalogue\"\n", "");
    assert_ne!(headless, POLICY);
    desk.write(&headless);
    let refused = run(&["defaults", "--outbound", "deny", "--posture", "showing"]);
    assert_eq!(refused.code, 2, "{}", refused.stdout);
    assert_eq!(desk.text(), headless);
}

/// Strict rules that are off for a while come back by themselves, whoever is killed: not the host's own rules.
#[test]
fn what_was_taken_for_good_holds_again_behind_what_has_an_end() {
    sealed("in_postures::what_was_taken_for_good_holds_again_behind_what_has_an_end", || {
        let world = World::with(POLICY);
        world.enforce();
        let listen = |port: u16| {
            let bound = world.node("sluice").run(move || TcpListener::bind(("::", port)));
            bound.expect("entered").expect("bound")
        };
        let (_shop, _shell) = (listen(443), listen(2202));
        let open = |port: u16| world.knock("203.0.113.9", &format!("192.0.2.10:{port}"));
        let posture = || {
            let told = world.run(&["posture", "--format", "json"]).exits(0).json();
            (told["posture"].as_str().unwrap_or_default().to_owned(), told["then"].clone())
        };
        let is_sealed = |what: &str| {
            assert!(!open(443) && !open(2202), "{what}");
            assert_eq!(posture(), ("sealed".into(), Value::Null), "{what}");
            world.run(&["status"]).exits(0);
        };
        world.run(&["posture", "take", "sealed", "--keep", "--why", "travelling"]).exits(0);
        is_sealed("taken");
        // For a time, with nobody there at its end; the kernel's rules are asked before any command is run.
        let told = world.run(&["posture", "take", "showing", "--for", "3s"]).exits(0).stdout;
        assert!(told.contains(", then sealed"), "{told}");
        let began = Instant::now();
        assert!(open(443) && open(2202));
        let state = world.desk.state().display().to_string();
        those_who_see_it_out(&state).iter().for_each(|it| kill(it));
        while began.elapsed() < Duration::from_secs(5) {
            sleep(Duration::from_millis(100));
        }
        assert!(!open(443) && !open(2202), "it is sealed by the kernel's own clock");
        is_sealed("over");
        // Twice one upon the other; left by hand; and with a command.
        world.run(&["posture", "take", "showing", "--for", "1h"]).exits(0);
        world.run(&["posture", "take", "showing", "--for", "2h"]).exits(0);
        assert!(open(443));
        assert_eq!(posture(), ("showing".into(), "sealed".into()));
        world.run(&["enforce", "--keep"]).exits(0);
        assert_eq!(posture(), ("showing".into(), "sealed".into()));
        let left = world.run(&["posture", "leave", "--keep"]).exits(0).stdout;
        assert!(left.contains("posture sealed holds again"), "{left}");
        is_sealed("left");
        let told = world.run(&["posture", "take", "showing", "--while", "true"]).exits(0).stdout;
        assert!(told.contains("posture sealed holds again"), "{told}");
        is_sealed("the command has ended");
        world.run(&["posture", "take", "sealed", "--while", "true"]).exits(0);
        is_sealed("the same for a while");
        // One without an end takes its place.
        world.run(&["posture", "take", "showing", "--keep"]).exits(0);
        assert_eq!(posture(), ("showing".into(), Value::Null));
        world.run(&["posture", "leave", "--keep"]).exits(0);
        assert_eq!(posture(), (String::new(), Value::Null));
        assert!(open(2202) && !open(443));
    });
}
