//! The demo: as root and as an ordinary user, in time, leaving nothing behind.

use crate::harness::{Desk, finish};
use rustix::process::{Pid, Signal, kill_process};
use std::fs;
use std::os::unix::process::CommandExt;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// A nobody, as far as this machine is concerned.
const NOBODY: u32 = 65_534;

/// The demo, as its users start it. Its processes can be told from others by a word in their
/// environment.
fn demo(desk: &Desk, mark: &str, args: &[&str], as_nobody: bool) -> Command {
    let mut command = desk.command(["demo"].iter().chain(args));
    command.env("TIPSTAFF_TEST_MARK", mark).current_dir("/");
    if as_nobody && rustix::process::geteuid().is_root() {
        command.uid(NOBODY).gid(NOBODY);
    }
    command
}

/// Processes that carry a mark.
fn marked(mark: &str) -> usize {
    let needle = format!("TIPSTAFF_TEST_MARK={mark}");
    let processes = fs::read_dir("/proc").expect("a process list").flatten();
    processes
        .filter_map(|process| fs::read(process.path().join("environ")).ok())
        .filter(|text| text.split(|&byte| byte == 0).any(|it| it == needle.as_bytes()))
        .count()
}

fn gone_soon(mark: &str) {
    let deadline = Instant::now() + Duration::from_secs(30);
    while marked(mark) > 0 {
        assert!(Instant::now() < deadline, "processes of the demo are left");
        std::thread::sleep(Duration::from_millis(20));
    }
    assert!(!fs::exists("/usr/sbin/catalogued").expect("it can be asked"));
}

fn tells_the_story(mark: &str, as_nobody: bool) {
    let desk = Desk::with("");
    let outcome = finish(demo(&desk, mark, &[], as_nobody)).exits(0);
    for word in [
        "1. What listens",
        "/usr/sbin/tidegauge",
        "5. Mend it",
        "no difference: every packet fares the same",
        "each met what the policy says",
        "8. What changed",
        "by all three witnesses",
    ] {
        assert!(outcome.stdout.contains(word), "{word} is missing:\n{}", outcome.stdout);
    }
    gone_soon(mark);
}

#[test]
fn the_demo_tells_of_a_fleet() {
    let desk = Desk::with("");
    let told = finish(demo(&desk, "fleet", &["fleet"], true)).exits(0).stdout;
    for word in ["proven for 2 pairs", "4 as the policy says", "changed-here", "3 well"] {
        assert!(told.contains(word), "{word} is missing:\n{told}");
    }
    gone_soon("fleet");
    let found = finish(demo(&desk, "fleet-json", &["fleet", "--format", "json"], false)).exits(0);
    let found = found.json();
    assert_eq!(found["broken"], serde_json::json!([]), "{found}");
    let stops = found["steps"].as_array().expect("steps").iter().filter(|it| it["exit"] == 1);
    assert_eq!(stops.count(), 2, "{found}");
    gone_soon("fleet-json");
}

#[test]
fn it_works_for_whoever_runs_the_tests() {
    tells_the_story("caller", false);
}

#[test]
fn it_works_for_an_ordinary_user() {
    tells_the_story("nobody", true);
}

#[test]
fn programs_get_what_was_found() {
    let desk = Desk::with("");
    let found = finish(demo(&desk, "json", &["--format", "json"], true)).exits(0).json();
    assert_eq!(found["broken"], serde_json::json!([]));
    let changes = found["changes"].as_array().expect("a list");
    let shell = changes.iter().find(|it| it["port"] == "2202/tcp").expect("there");
    assert_eq!((&shell["before"], &shell["after"]), (&"silent".into(), &"open".into()));
    assert_eq!(shell["versions"], serde_json::json!(["IPv4", "IPv6"]));
    assert_eq!(found["before"].as_array().map(Vec::len), Some(3));
}

#[test]
fn nothing_is_left_behind_when_it_is_killed() {
    let desk = Desk::with("");
    for (mark, signal) in [("int", Signal::INT), ("kill", Signal::KILL), ("term", Signal::TERM)] {
        let mut command = demo(&desk, mark, &[], true);
        let mut child =
            command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("starts");
        // The lab, and programs in it, are there by then.
        let deadline = Instant::now() + Duration::from_secs(90);
        while marked(mark) < 8 {
            assert!(Instant::now() < deadline, "the lab did not come up");
            std::thread::sleep(Duration::from_millis(10));
        }
        let pid = Pid::from_child(&child);
        kill_process(pid, signal).expect("signalled");
        child.wait().expect("ends");
        gone_soon(mark);
    }
}

#[test]
fn where_namespaces_are_not_allowed_it_says_so() {
    if !rustix::process::geteuid().is_root() {
        // Only root can take the right away here; the message is the same either way.
        println!("NOT RUN: needs root to forbid namespaces to the demo");
        assert!(std::env::var_os("CI").is_none(), "under CI this must run");
        return;
    }
    // In a user namespace whose limit is zero nobody makes another.
    let limit = "/proc/sys/user/max_net_namespaces";
    let inner = format!("echo 0 > {limit} && exec {:?} demo", env!("CARGO_BIN_EXE_tipstaff"));
    let mut command = Command::new("unshare");
    command.args(["--user", "--map-root-user", "sh", "-c", &inner]).env("COLUMNS", "100");
    let outcome = finish(command).exits(3);
    assert!(outcome.stderr.contains("lets you make no network namespaces"), "{}", outcome.stderr);
    assert!(outcome.stderr.contains("user.max_user_namespaces"), "{}", outcome.stderr);
}
