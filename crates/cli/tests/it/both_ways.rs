//! What the first rules leave open; and, after a change went back, which of file and kernel is which.

use crate::harness::Desk;
use std::time::Duration;
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};

const POLICY: &str = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\", \"2001:db8:2::10\"]\n\
                      [[host.sluice.rule]]\nname = \"catalogue\"\nallow = [\"443/tcp\"]\n\
                      from = [\"198.51.100.0/24\"]\n";

#[test]
fn the_first_rules_tell_what_they_leave_open() {
    sealed("both_ways::the_first_rules_tell_what_they_leave_open", || {
        let (lab, desk) = (street_sluice_granary(), Desk::with(POLICY));
        let sluice = lab.node("sluice").expect("it");
        let would = desk.on(sluice, ["enforce", "--dry-run", "--format", "json"]).exits(0).json();
        let open = &would["stays_open"];
        assert_eq!(open[0]["open"][0]["by"]["name"], "catalogue");
        assert_eq!(open[0]["open"][0]["regions"][0]["traffic"], "443/tcp");
        assert_eq!(open[0]["open"].as_array().map(Vec::len), Some(1), "{open}");
        assert_eq!((&open[1]["everything"], &open[2]["everything"]), (&true.into(), &false.into()));
        let said = desk.on(sluice, ["enforce", "--keep"]).exits(0).stdout;
        assert!(said.contains("443/tcp from 198.51.100.0/24 (catalogue)"), "{said}");
        assert!(said.contains("outbound: everything stays open"), "{said}");
        assert!(said.contains("forwarded: everything is closed"), "{said}");
        // Only the first ones: later it is told what changes.
        desk.on(sluice, ["rule", "add", "copies", "--allow", "873/tcp"]).exits(0);
        let said = desk.on(sluice, ["enforce", "--keep"]).exits(0).stdout;
        assert!(said.contains("opens") && !said.contains("stays open"), "{said}");
    });
}

#[test]
fn of_many_rules_those_for_nearly_everybody_are_told_first() {
    sealed("both_ways::of_many_rules_those_for_nearly_everybody_are_told_first", || {
        let narrow = |number: u32| {
            format!(
                "[[host.sluice.rule]]\nname = \"clerk-{number}\"\nallow = [\"443/tcp\"]\n\
                 from = [\"198.51.100.{number}\"]\n"
            )
        };
        let mut text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n".to_owned();
        text.extend((1..=30).map(narrow));
        // All of one IP version, and not of the other.
        text.push_str(
            "[[host.sluice.rule]]\nname = \"wide\"\nallow = [\"873/tcp\"]\nfrom = [\"0.0.0.0/0\"]\n",
        );
        let desk = Desk::with(text);
        let told = |more: &[&str]| {
            let args = ["--format", "json", "--host", "sluice", "enforce", "--dry-run"];
            let args =
                args.iter().chain(&["--not-this-machine", "--even-if-locked-out"]).chain(more);
            let inbound = desk.run(args).exits(0).json()["stays_open"][0].take();
            let names = inbound["open"].as_array().expect("a list").iter();
            let names: Vec<String> =
                names.map(|it| it["by"]["name"].as_str().expect("a name").to_owned()).collect();
            (names, inbound["more"].as_u64())
        };
        let (names, more) = told(&[]);
        assert_eq!((names.len(), more), (24, Some(7)));
        assert!(names.contains(&"wide".to_owned()), "{names:?}");
        let (names, more) = told(&["--all"]);
        assert_eq!((names.len(), more), (31, Some(0)));
    });
}

#[test]
fn after_a_change_went_back_both_ways_are_offered() {
    sealed("both_ways::after_a_change_went_back_both_ways_are_offered", || {
        let (lab, desk) = (street_sluice_granary(), Desk::with(POLICY));
        let sluice = lab.node("sluice").expect("it");
        let run = |words: &[&str]| desk.on(sluice, words);
        run(&["enforce", "--keep"]).exits(0);
        run(&["rule", "add", "copies", "--allow", "873/tcp"]).exits(0);
        // Changed, and not tried yet: to enforce it is what is probably meant.
        let status = run(&["status"]).exits(1).stdout;
        assert!(status.contains("`enforce --keep` mends it"), "{status}");
        assert!(status.contains("`tipstaff docket restore 1` writes what is in force"), "{status}");
        run(&["enforce", "--confirm-within", "1"]).exits(0);
        std::thread::sleep(Duration::from_secs(3));
        let status = run(&["status"]).exits(1).stdout;
        assert!(status.contains("it is what entry 2 put in force, which went back"), "{status}");
        assert!(!status.contains("`enforce --keep` mends it"), "{status}");
        let json = run(&["status", "--format", "json"]).exits(1).json();
        assert_eq!(json["docket"]["went_back"], 2);
        // One way: the file as it is in force.
        run(&["docket", "restore", "1"]).exits(0);
        let status = run(&["status"]).exits(0).stdout;
        assert!(!status.contains("the file says otherwise"), "{status}");
        // The other: what went back, once more, and kept.
        run(&["undo"]).exits(0);
        run(&["enforce", "--keep"]).exits(0);
        run(&["status"]).exits(0);
    });
}
