//! A folder of files as one policy.

use crate::harness::Desk;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use tipstaff_linux::lab::testing::sealed;

const NAMES: &str = "edition = 1
[place.curators]
addresses = [\"198.51.100.0/27\", \"2001:db8:51::/64\"]
[bundle.staff-access]
[[bundle.staff-access.rule]]
name = \"staff-shell\"
allow = [\"2202/tcp\"]
from = [\"curators\"]
at = [\"192.0.2.10\"]
";

const SLUICE: &str = "edition = 1
[host.sluice]
addresses = [\"192.0.2.10\"]
[[host.sluice.rule]]
use = \"staff-access\"
";

fn folder(files: &[(&str, &str)]) -> Desk {
    let desk = Desk::with("not = \"read\"\n");
    let parts = desk.path().join("parts");
    fs::create_dir(&parts).expect("a folder");
    fs::set_permissions(&parts, fs::Permissions::from_mode(0o755)).expect("a mode");
    for (name, text) in files {
        write(&parts.join(name), text);
    }
    desk
}

fn write(file: &Path, text: &str) {
    fs::write(file, text).expect("written");
    fs::set_permissions(file, fs::Permissions::from_mode(0o644)).expect("a mode");
}

const SHOW: [&str; 3] = ["--policy", "parts", "show"];

#[test]
fn its_files_are_one_policy_whose_names_hold_everywhere() {
    // The host's file comes first by name; other files are not read.
    let desk = folder(&[("a-sluice.toml", SLUICE), ("names.toml", NAMES), ("notes.txt", "?")]);
    let text = desk.run(SHOW).exits(0).stdout;
    assert!(text.contains("staff-shell") && text.contains("names.toml:6"), "{text}");
    write(&desk.path().join("parts/.names.toml"), "what an editor left behind");
    desk.run(SHOW).exits(0);
}

#[test]
fn mistakes_are_shown_in_the_file_they_are_in() {
    let twice = "edition = 1\n[place.curators]\naddresses = [\"203.0.113.9\"]\n";
    let desk = folder(&[("a.toml", SLUICE), ("b.toml", NAMES), ("c.toml", twice)]);
    insta::assert_snapshot!(desk.run(SHOW).exits(2).stderr);
    // The bundle fits one host and not the other.
    let granary = SLUICE.replace("sluice", "granary").replace("192.0.2.10", "10.44.8.20");
    let desk = folder(&[("a.toml", SLUICE), ("b.toml", NAMES), ("c.toml", &granary)]);
    insta::assert_snapshot!(desk.run(SHOW).exits(2).stderr);
    let desk = folder(&[("a.toml", "edition = "), ("b.toml", "[place"), ("c.toml", NAMES)]);
    let text = desk.run(SHOW).exits(2).stderr;
    assert!(text.contains("parts/a.toml:1") && text.contains("parts/b.toml:1"), "{text}");
    assert!(text.contains("2 mistakes in 3 files; nothing was done"), "{text}");
}

#[test]
fn one_that_others_can_change_is_not_enforced() {
    sealed("folders::one_that_others_can_change_is_not_enforced", || {
        let enforce = ["--policy", "parts", "enforce", "--keep"];
        let desk = folder(&[("a.toml", SLUICE), ("b.toml", NAMES)]);
        desk.run(enforce).exits(0);
        for (path, good, bad) in [("parts/b.toml", 0o644, 0o664), ("parts", 0o755, 0o777)] {
            let file = desk.path().join(path);
            fs::set_permissions(&file, fs::Permissions::from_mode(bad)).expect("a mode");
            let text = desk.run(enforce).exits(2).stderr;
            assert!(text.contains(&format!("chmod go-w {path}")), "{text}");
            fs::set_permissions(&file, fs::Permissions::from_mode(good)).expect("a mode");
        }
    });
}

/// All files of a folder that a policy is read from, with their texts.
fn texts(folder: &Path) -> Vec<(String, String)> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).expect("a folder").flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        if !name.starts_with('.') {
            found.push((name, fs::read_to_string(entry.path()).expect("text")));
        }
    }
    found.sort();
    found
}

#[test]
fn something_new_goes_into_a_new_file_and_back() {
    let desk = folder(&[("a-sluice.toml", SLUICE), ("names.toml", NAMES)]);
    let parts = desk.path().join("parts");
    let before = texts(&parts);
    let run = |words: &str| desk.run(["--policy", "parts"].into_iter().chain(words.split(' ')));
    let add = "place add herbarium --addresses 198.51.100.128/28 --file partners.toml";
    run(&format!("{add} --dry-run")).exits(0);
    assert_eq!(texts(&parts), before);
    let said = run(add).exits(0).stdout;
    assert!(said.contains("written parts/partners.toml"), "{said}");
    let made = fs::metadata(parts.join("partners.toml")).expect("it is there");
    assert_eq!(made.permissions().mode() & 0o777, 0o644, "as the others are");
    run("service add seeds --ports 5432/tcp --file partners.toml").exits(0);
    assert_eq!(texts(&parts).len(), 3);
    run("undo").exits(0);
    run("undo").exits(0);
    assert_eq!(texts(&parts), before);
    for wrong in ["../x.toml", "/x.toml", ".x.toml", "x.txt", ".toml", "parts/deep/x.toml"] {
        let said = run(&add.replace("partners.toml", wrong)).exits(2).stderr;
        assert!(said.contains("that can be no file of the policy"), "{wrong}: {said}");
    }
    assert_eq!(texts(&parts), before);
}

#[test]
fn a_former_policy_of_several_files_is_written_back_and_that_taken_back() {
    let name = "folders::a_former_policy_of_several_files_is_written_back_and_that_taken_back";
    sealed(name, || {
        let desk = folder(&[("a-sluice.toml", SLUICE), ("names.toml", NAMES)]);
        let parts = desk.path().join("parts");
        let run = |words: &str| {
            let common = ["--policy", "parts", "--host", "sluice"];
            desk.run(common.into_iter().chain(words.split(' ')))
        };
        run("enforce --keep --not-this-machine").exits(0);
        let enforced = texts(&parts);
        run("place add herbarium --addresses 198.51.100.128/28 --file new.toml").exits(0);
        run("place change curators --also-addresses 198.51.100.64/28").exits(0);
        run("rule add seeds --allow 5432/tcp --from herbarium").exits(0);
        let changed = texts(&parts);
        let dry = run("docket restore 1 --dry-run").exits(0).stdout;
        assert!(dry.contains("in parts/new.toml:") && dry.contains("closes"), "{dry}");
        assert_eq!(texts(&parts), changed);
        run("docket restore 1").exits(0);
        assert_eq!(texts(&parts), enforced);
        run("undo").exits(0);
        assert_eq!(texts(&parts), changed);
        // Also where a file was broken since.
        write(&parts.join("names.toml"), "edition = 1\n[place.curators\n");
        let broken = texts(&parts);
        let said = run("docket restore 1").exits(0).stdout;
        assert!(said.contains("what was there was no policy"), "{said}");
        assert_eq!(texts(&parts), enforced);
        // A single file has no room for it.
        let said = desk.run(["--host", "sluice", "docket", "restore", "1"]).exits(2).stderr;
        assert!(said.contains("the policy of entry 1 has 2 files"), "{said}");
        assert_ne!(broken, enforced);
    });
}
