//! `review`, `compare` and `ask` about whole regions.

use crate::harness::{Desk, INHERITED, MENDED};
use gix_object::Write;
use std::fs;
use std::path::Path;

#[test]
fn the_inherited_policy_is_reviewed_and_the_mended_one_is_clean() {
    let desk = Desk::with(INHERITED);
    let review = desk.run(["--host", "sluice", "review"]).exits(1);
    insta::assert_snapshot!(review.stdout);
    let desk = Desk::with(MENDED);
    for host in ["sluice", "granary", "bench"] {
        desk.run(["--host", host, "review"]).exits(0);
    }
}

#[test]
fn every_kind_of_finding_is_shown() {
    let desk = Desk::with(include_str!("../findings.toml"));
    let review = desk.run(["review"]).exits(1);
    insta::assert_snapshot!(review.stdout);
    let json = desk.run(["--format", "json", "review"]).exits(1).json();
    let findings = json["findings"].as_array().expect("a list");
    for key in ["code", "severity", "rule", "others", "origin", "message", "witness", "mend"] {
        assert!(findings.iter().all(|finding| finding.get(key).is_some()), "{key}");
    }
    let codes: Vec<&str> = findings.iter().filter_map(|it| it["code"].as_str()).collect();
    for code in [
        "shadowed",
        "redundant",
        "overlap",
        "never-here",
        "same-as-default",
        "wide-open",
        "one-ip-version",
        "expired",
        "odd-rate",
        "unused-name",
        "shell-lockout",
        "expectation-failed",
    ] {
        assert!(codes.contains(&code), "{code} is not among {codes:?}");
    }
    let accepted = findings.iter().filter(|it| !it["accepted"].is_null()).count();
    assert_eq!(accepted, 1);
}

#[test]
fn each_kind_of_finding_is_explained() {
    let desk = Desk::with(INHERITED);
    let text = desk.run(["review", "--explain", "shadowed"]).exits(0).stdout;
    assert!(text.starts_with("shadowed\nEarlier decisions"), "{text}");
    let wrong = desk.run(["review", "--explain", "shaded"]).exits(2);
    assert!(wrong.stderr.contains("did you mean `shadowed`?"), "{}", wrong.stderr);
}

#[test]
fn regions_are_answered_in_few_words() {
    let desk = Desk::with(INHERITED);
    let mut said = String::new();
    for question in [
        &["--host", "granary", "ask", "--who", "5432/tcp"][..],
        &["--host", "granary", "ask", "--what", "herbarium"],
        &["--host", "sluice", "ask", "--why", "nuisance"],
        &["--host", "sluice", "ask", "--who", "873/tcp", "--direction", "forwarded"],
    ] {
        let answer = desk.run(question).exits(0).stdout;
        said.push_str(&format!("$ tipstaff {}\n{answer}\n", question.join(" ")));
    }
    insta::assert_snapshot!(said);
    let wrong = desk.run(["--host", "sluice", "ask", "--why", "nuisanse"]).exits(2);
    assert!(wrong.stderr.contains("did you mean `nuisance`?"));
}

#[test]
fn policies_and_hosts_are_compared() {
    let desk = Desk::with(MENDED);
    fs::write(desk.path().join("old.toml"), INHERITED).expect("written");
    let difference = desk.run(["--host", "sluice", "compare", "old.toml"]).exits(1);
    insta::assert_snapshot!(difference.stdout);
    desk.run(["--host", "sluice", "compare", "policy.toml@sluice"]).exits(0);
    let hosts = desk.run(["--format", "json", "compare", "@granary", "@bench"]).exits(1).json();
    assert_eq!(hosts["equal"], false);
    assert_eq!(hosts["changes"][0]["kind"], "opens");
}

/// A work tree whose last commit has this policy, made without any program.
fn commit(folder: &Path, policy: &str) {
    let history = folder.join(".git");
    fs::create_dir_all(history.join("objects")).expect("a folder");
    fs::create_dir_all(history.join("refs/heads")).expect("a folder");
    fs::write(history.join("HEAD"), "ref: refs/heads/main\n").expect("written");
    let objects = gix_odb::loose::Store::at(history.join("objects"), gix_hash::Kind::Sha1);
    let blob = objects.write_buf(gix_object::Kind::Blob, policy.as_bytes()).expect("a blob");
    let mut tree = b"100644 policy.toml\0".to_vec();
    tree.extend_from_slice(blob.as_bytes());
    let tree = objects.write_buf(gix_object::Kind::Tree, &tree).expect("a tree");
    let text = format!(
        "tree {tree}\nauthor curator <c@example.org> 1767225600 +0000\n\
         committer curator <c@example.org> 1767225600 +0000\n\nkept\n"
    );
    let commit = objects.write_buf(gix_object::Kind::Commit, text.as_bytes()).expect("a commit");
    fs::write(history.join("refs/heads/main"), format!("{commit}\n")).expect("written");
}

#[test]
fn the_committed_version_is_compared() {
    let desk = Desk::with(INHERITED);
    let never = desk.run(["--host", "sluice", "compare", "committed"]).exits(2);
    assert!(never.stderr.contains("it is in no git work tree"), "{}", never.stderr);
    commit(desk.path(), INHERITED);
    desk.run(["--host", "sluice", "compare", "committed"]).exits(0);
    desk.run(["--host", "sluice", "rule", "remove", "shell"]).exits(0);
    let changed = desk.run(["--host", "sluice", "compare", "committed"]).exits(1).stdout;
    assert!(changed.contains("closes") && changed.contains("22/tcp"), "{changed}");
}
