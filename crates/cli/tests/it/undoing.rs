//! Changes from the command line are taken back, byte for byte, and only where nothing else would be lost.

use crate::harness::{Desk, INHERITED};
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;
use tipstaff_linux::lab::testing::sealed;

impl Desk {
    fn file(&self, name: &str) -> PathBuf {
        self.path().join(name)
    }

    fn policy_now(&self) -> String {
        fs::read_to_string(self.file("policy.toml")).expect("it is there")
    }

    fn sluice(&self, words: &str) -> crate::harness::Outcome {
        self.run(["--host", "sluice"].into_iter().chain(words.split(' ')))
    }
}

#[test]
fn every_change_is_taken_back_in_turn_and_restores_every_byte() {
    let desk = Desk::with(INHERITED);
    let changes = [
        "rule add gauge --allow 9100/tcp --from stacks",
        "rule change catalogue --also-allow 8443/tcp --not-from nuisance",
        "rule move nuisance --first",
        "rule pause shell copies",
        "rule remove shell copies",
        "place change nuisance --also-addresses 203.0.113.77",
        "service add seeds --ports 7000/tcp",
        "service change seeds --also-ports 7001/tcp --not-ports 7000/tcp",
        "place add pilots --addresses 198.51.100.64/29",
        "place change pilots --rename keepers",
        "defaults --inbound reject",
    ];
    let mut texts = vec![desk.policy_now()];
    for change in changes {
        desk.sluice(change).exits(0);
        texts.push(desk.policy_now());
    }
    let mut changes = changes.iter().rev();
    while let Some(before) = texts.pop().and_then(|_| texts.last()) {
        let dry = desk.sluice("undo --dry-run").exits(0).stdout;
        let said = desk.sluice("undo").exits(0).stdout;
        assert!(dry.contains("taken back: ") && said.contains("taken back: "), "{dry}{said}");
        assert_eq!(desk.policy_now(), *before, "{:?}", changes.next());
    }
    assert_eq!(desk.policy_now(), INHERITED);
    let nothing = desk.sluice("undo").exits(2).stderr;
    assert!(nothing.contains("there is no change to take back"), "{nothing}");
    // What is only shown is no change.
    desk.sluice("rule remove shell --dry-run").exits(0);
    desk.sluice("undo").exits(2);
}

#[test]
fn what_was_changed_otherwise_since_is_not_lost() {
    let desk = Desk::with(INHERITED);
    desk.sluice("rule remove shell").exits(0);
    let by_hand = format!("# by hand\n{}", desk.policy_now());
    desk.write(&by_hand);
    let refused = desk.sluice("undo").exits(2).stderr;
    assert!(refused.contains("has been changed otherwise since: rule removed: shell"), "{refused}");
    assert_eq!(desk.policy_now(), by_hand);
    // A further change can be taken back, the one below the editor's cannot.
    desk.sluice("rule pause nuisance").exits(0);
    desk.sluice("undo").exits(0);
    assert_eq!(desk.policy_now(), by_hand);
    desk.sluice("undo").exits(2);
}

/// Whoever is killed between keeping what was and changing it has changed nothing.
#[test]
fn a_change_that_was_never_made_is_passed_over() {
    let desk = Desk::with(INHERITED);
    desk.sluice("rule pause shell").exits(0);
    let paused = desk.policy_now();
    desk.sluice("rule remove nuisance").exits(0);
    desk.write(&paused);
    let said = desk.sluice("undo").exits(0).stdout;
    assert!(said.contains("taken back: rule paused: shell"), "{said}");
    assert_eq!(desk.policy_now(), INHERITED);
}

#[test]
fn what_is_kept_for_it_belongs_to_who_owns_the_policy() {
    let desk = Desk::with(INHERITED);
    let mode = |name: &str| {
        fs::metadata(desk.file(name)).expect("it is there").permissions().mode() & 0o7777
    };
    fs::set_permissions(desk.file("policy.toml"), fs::Permissions::from_mode(0o640)).expect("set");
    desk.sluice("rule pause shell").exits(0);
    assert_eq!((mode("policy.toml"), mode(".policy.toml.undo")), (0o640, 0o640));
    // One that others could have written, or that is a link, is none.
    let known = fs::read(desk.file(".policy.toml.undo")).expect("it is there");
    let refuses = || {
        let refused = desk.sluice("undo").exits(3).stderr;
        assert!(
            refused.contains("cannot read") && refused.contains(".policy.toml.undo"),
            "{refused}"
        );
    };
    fs::set_permissions(desk.file(".policy.toml.undo"), fs::Permissions::from_mode(0o666))
        .expect("set");
    refuses();
    fs::remove_file(desk.file(".policy.toml.undo")).expect("gone");
    fs::write(desk.file("elsewhere"), known).expect("written");
    std::os::unix::fs::symlink("elsewhere", desk.file(".policy.toml.undo")).expect("linked");
    refuses();
    fs::remove_file(desk.file(".policy.toml.undo")).expect("gone");
    // Damaged, it stops changes that would lose it, and says which file that is.
    fs::write(desk.file(".policy.toml.undo"), "{").expect("written");
    let before = desk.policy_now();
    for words in ["undo", "rule resume shell"] {
        let refused = desk.sluice(words).exits(3).stderr;
        assert!(refused.contains(".policy.toml.undo"), "{refused}");
        assert_eq!(desk.policy_now(), before);
    }
}

/// Only so many changes are kept.
#[test]
fn the_oldest_changes_are_forgotten() {
    let desk = Desk::with(INHERITED);
    for step in 0..52 {
        desk.sluice(&format!("rule change nuisance --why step-{step}")).exits(0);
    }
    let back = (0..).take_while(|_| desk.sluice("undo").code == 0).count();
    assert_eq!(back, 50);
    assert!(desk.policy_now().contains("step-1\""));
}

/// In a folder each change goes to its file, and back.
#[test]
fn changes_of_a_folder_are_taken_back_where_they_were_made() {
    let desk = Desk::with(INHERITED);
    let folder = desk.file("folder");
    fs::create_dir(&folder).expect("a folder");
    let places = "edition = 1\n[place.curators]\naddresses = [\"198.51.100.0/27\"]\n";
    let host = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
                [[host.sluice.rule]]\nname = \"shell\"\nallow = [\"22/tcp\"]\nfrom = [\"curators\"]\n";
    fs::write(folder.join("10-places.toml"), places).expect("written");
    fs::write(folder.join("20-hosts.toml"), host).expect("written");
    let run = |words: &str| {
        let common = ["--policy", "folder", "--host", "sluice"];
        desk.run(common.into_iter().chain(words.split(' ')))
    };
    run("place change curators --also-addresses 198.51.100.64/27").exits(0);
    run("rule pause shell").exits(0);
    let read = |name: &str| fs::read_to_string(folder.join(name)).expect("it is there");
    assert!(read("10-places.toml").contains("198.51.100.64/27"));
    run("undo").exits(0);
    assert_eq!(read("20-hosts.toml"), host);
    run("undo").exits(0);
    assert_eq!(read("10-places.toml"), places);
    run("undo").exits(2);
}

/// What was enforced once comes back to the file, byte for byte, also where the file was broken since.
#[test]
fn a_former_policy_is_written_back() {
    sealed("undoing::a_former_policy_is_written_back", || {
        let desk = Desk::with(INHERITED);
        let run = |words: &str| desk.sluice(words);
        run("enforce --keep --not-this-machine").exits(0);
        assert_eq!(run("docket show 1 --text").exits(0).stdout, INHERITED);
        run("rule pause shell").exits(0);
        let paused = desk.policy_now();
        let dry = run("docket restore 1 --dry-run").exits(0).stdout;
        assert!(dry.contains("restored: the policy of entry 1") && dry.contains("opens"), "{dry}");
        assert_eq!(desk.policy_now(), paused);
        run("docket restore 1").exits(0);
        assert_eq!(desk.policy_now(), INHERITED);
        run("undo").exits(0);
        assert_eq!(desk.policy_now(), paused);
        desk.write("edition = 1\n[host.sluice\n");
        let said = run("docket restore 1").exits(0).stdout;
        assert!(said.contains("what was there was no policy"), "{said}");
        assert_eq!(desk.policy_now(), INHERITED);
        let none = run("docket restore 7").exits(2).stderr;
        assert!(none.contains("the docket has no entry 7"), "{none}");
        run("release --keep").exits(0);
        let none = run("docket restore 2").exits(2).stderr;
        assert!(none.contains("entry 2 has no policy"), "{none}");
        assert_eq!(desk.policy_now(), INHERITED);
    });
}

/// Hosts and their baseline, from the command line and back.
#[test]
fn hosts_and_their_baseline_are_changed_and_taken_back() {
    let desk = Desk::with(INHERITED);
    let hosts = |key: &str| {
        let json = desk.sluice("--format json host list").exits(0).json();
        json["hosts"]
            .as_array()
            .expect("a list")
            .iter()
            .map(|it| it[key].clone())
            .collect::<Vec<_>>()
    };
    let before = hosts("name").len();
    desk.sluice("host add bench-2 --addresses 10.44.8.31 fd44:8::31 --labels desk").exits(0);
    assert_eq!(hosts("name").len(), before + 1);
    // A first item is no mistake where nothing means nobody, and the last one goes with its key.
    let said = desk.sluice("host change sluice --also-turned-away nuisance").exits(0).stdout;
    assert!(said.contains("closes") && said.contains("baseline/turned-away"), "{said}");
    assert_eq!(hosts("turned_away")[0], serde_json::json!(["nuisance"]));
    let said = desk.sluice("host change sluice --not-turned-away nuisance").exits(0).stdout;
    assert!(said.contains("opens"), "{said}");
    assert!(!desk.policy_now().contains("turned-away"));
    desk.sluice("host change sluice --also-labels quiet --shell 2202/tcp").exits(0);
    desk.sluice("host change sluice --drop shell").exits(0);
    desk.sluice("host change bench-2 --rename bench-3").exits(0);
    assert!(hosts("name").contains(&"bench-3".into()));
    desk.sluice("baseline --ping by-rules --dhcp off").exits(0);
    desk.sluice("baseline --ping allow --dhcp on").exits(0);
    let show = desk.sluice("--format json show").exits(0).json();
    let ping = show["directions"][0]["decisions"].as_array().expect("a list").iter();
    let ping = ping.clone().find(|it| it["name"] == "baseline/ping").expect("it is there");
    assert_eq!((&ping["verdict"], &ping["rate"]), (&"allow".into(), &serde_json::Value::Null));
    for (words, told) in [
        ("host change sluice", "nothing is to change about `sluice`"),
        ("host change nowhere --labels x", "there is no host `nowhere`"),
        ("host add sluice --addresses 192.0.2.1", "there is a host `sluice` already"),
        ("host add Empty", "host name `Empty` cannot be used"),
        ("baseline", "no part of the baseline is to change"),
        ("baseline --ping sometimes", "is not a rate"),
    ] {
        let refused = desk.sluice(words).exits(2).stderr;
        assert!(refused.contains(told), "{words}: {refused}");
    }
    while desk.sluice("undo").code == 0 {}
    assert_eq!(desk.policy_now(), INHERITED);
}
