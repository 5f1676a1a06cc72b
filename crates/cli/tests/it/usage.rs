//! The command line itself: exit codes, errors, and hostile surroundings.

use crate::harness::{Desk, MENDED, finish};
use std::io::Read;
use std::os::unix::process::CommandExt;
use std::process::Stdio;

#[test]
fn options_work_before_and_after_the_command() {
    let desk = Desk::with(MENDED);
    let before = desk.run(["--host", "sluice", "--format", "json", "show"]).exits(0);
    let after = desk.run(["show", "--format", "json", "--host", "sluice"]).exits(0);
    assert_eq!(before.stdout, after.stdout);
}

#[test]
fn files_that_are_no_policies_are_named_and_explained() {
    for (text, word) in [
        (&b""[..], "`edition` is missing"),
        (b"edition = 1\n# \xff\n", "not UTF-8"),
        (b"\x00\x01\x02", "syntax"),
    ] {
        let outcome = Desk::with(text).run(["show"]).exits(2);
        assert!(outcome.stderr.contains(word), "{}", outcome.stderr);
    }
    let desk = Desk::with(MENDED);
    let missing = desk.run(["--policy", "missing.toml", "show"]).exits(2);
    assert!(missing.stderr.contains("missing.toml"), "{}", missing.stderr);
    let empty = tempfile::tempdir().expect("a folder");
    let folder = desk.run(["--policy", &empty.path().to_string_lossy(), "show"]).exits(2);
    assert!(folder.stderr.contains("has no policy in it"), "{}", folder.stderr);
}

#[test]
fn deep_nesting_and_noise_end_in_an_error() {
    let mut noise = Vec::new();
    let mut state = 1u64;
    for _ in 0..200_000 {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        noise.push(state.to_be_bytes()[0] & 0x7f);
    }
    let deep = format!("edition = 1\nplace = {}{}", "[".repeat(50_000), "]".repeat(50_000));
    for text in [noise, deep.into_bytes()] {
        Desk::with(text).run(["show"]).exits(2);
    }
}

#[test]
fn a_host_that_is_not_there_is_answered_with_the_ones_that_are() {
    let desk = Desk::with(MENDED);
    let near = desk.run(["show", "--host", "granery"]).exits(2);
    assert!(near.stderr.contains("did you mean `granary`"), "{}", near.stderr);
    let none = desk.run(["show"]).exits(2);
    assert!(none.stderr.contains("sluice, granary, bench"), "{}", none.stderr);
}

#[test]
fn failures_have_a_form_for_programs_too() {
    let outcome = Desk::with("edition = 2").run(["show", "--format", "json"]).exits(2);
    let errors = outcome.json();
    assert_eq!(errors["errors"][0]["code"], "no-host");
    assert_eq!(
        errors["errors"][1]["origin"],
        serde_json::json!({ "file": "policy.toml", "line": 1 })
    );
    assert!(outcome.stderr.contains("edition 2 is not known"), "{}", outcome.stderr);
}

#[test]
fn text_from_outside_cannot_control_the_terminal() {
    let hostile =
        "edition = 1\n[host.sluice]\naddresses = [\"\\u001b[2J\u{202e}\"]\n# \u{1b}[31m\n";
    let outcome = Desk::with(hostile).run(["show", "--host", "\u{1b}[2Jx"]).exits(2);
    assert!(!outcome.stderr.contains('\u{1b}'), "{:?}", outcome.stderr);
    assert!(!outcome.stderr.contains('\u{202e}'), "{:?}", outcome.stderr);
}

#[test]
fn colour_is_used_when_asked_for_and_never_against_a_wish() {
    let desk = Desk::with(MENDED);
    let always = desk.run(["show", "--host", "sluice", "--color", "always"]).exits(0);
    assert!(always.stdout.contains("\u{1b}["));
    let plain = desk.run(["show", "--host", "sluice"]).exits(0);
    assert!(!plain.stdout.contains('\u{1b}'));
}

#[test]
fn a_reader_that_goes_away_is_no_error() {
    let desk = Desk::with(MENDED);
    let mut command = desk.command(["show", "--host", "sluice"]);
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("starts");
    drop(child.stdout.take());
    let mut stderr = String::new();
    child.stderr.take().expect("piped").read_to_string(&mut stderr).expect("read");
    assert_eq!(child.wait().expect("ends").code(), Some(0));
    assert_eq!(stderr, "");
}

#[test]
fn a_result_that_cannot_be_written_is_a_failure() {
    let desk = Desk::with(MENDED);
    let full = std::fs::OpenOptions::new().write(true).open("/dev/full").expect("a full disk");
    let mut command = desk.command(["show", "--host", "sluice"]);
    let output = command.stdout(full).stderr(Stdio::piped()).output().expect("starts");
    assert_eq!(output.status.code(), Some(3));
    let stderr = String::from_utf8_lossy(&output.stderr);
    assert!(stderr.contains("cannot write the result"), "{stderr}");
}

#[test]
fn without_privileges_the_kernel_is_not_touched_and_that_is_said() {
    let desk = Desk::with(MENDED);
    let nobody = |args: &[&str]| {
        let mut command = desk.command(args);
        if rustix::process::geteuid().is_root() {
            command.uid(65_534).gid(65_534);
        }
        finish(command)
    };
    std::fs::set_permissions(desk.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755))
        .expect("a mode");
    for command in [&["enforce", "--keep"][..], &["status"], &["release"]] {
        let args: Vec<&str> = ["--host", "sluice"].iter().chain(command).copied().collect();
        let outcome = nobody(&args).exits(3);
        assert!(outcome.stderr.contains("CAP_NET_ADMIN"), "{}", outcome.stderr);
    }
    // What can be known is still told.
    let outcome = nobody(&["--host", "sluice", "reach"]);
    assert!(outcome.stdout.contains("not known: the kernel's rules"), "{outcome:?}");
    assert_eq!(outcome.code, 3);
}

/// Words that are no commands here are answered with those that are meant.
#[test]
fn words_that_people_try_first_are_understood() {
    let desk = Desk::with(MENDED);
    for (words, meant) in [
        (&["block"][..], "rule add NAME --deny any --from ADDRESS --first"),
        (&["LIST"], "rule list"),
        (&["rule", "delete", "shell"], "rule remove NAME"),
        (&["reload"], "`enforce` puts the policy's rules into the kernel"),
        (&["log"], "`docket` tells what was enforced"),
    ] {
        let refused = desk.run(words).exits(2).stderr;
        assert!(refused.contains("there is no command") && refused.contains(meant), "{refused}");
    }
    // Others are answered by their letters.
    let near = desk.run(["enforc"]).exits(2).stderr;
    assert!(near.contains("enforce"), "{near}");
}

/// Whoever has no policy yet learns how to begin, whatever they try.
#[test]
fn without_a_policy_the_way_to_a_first_one_is_told() {
    let desk = Desk::with(MENDED);
    for words in [
        "show",
        "rule list",
        "rule add x --allow 1/tcp",
        "undo",
        "review",
        "place list",
        "ask --from 203.0.113.9 --traffic 1/tcp",
        "reach",
        "rehearse",
    ] {
        let all = ["--policy", "none.toml"].into_iter().chain(words.split(' '));
        let refused = desk.run(all).exits(2).stderr;
        assert!(refused.contains("cannot read the policy none.toml"), "{words}: {refused}");
        assert!(refused.contains("`tipstaff draft` writes a first one"), "{words}: {refused}");
    }
}
