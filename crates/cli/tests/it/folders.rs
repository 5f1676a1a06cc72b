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
