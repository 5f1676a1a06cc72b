//! What a shell is told when it asks how a line goes on; and what the program says of itself.

use crate::harness::{Desk, MENDED, finish};
use tipstaff_linux::lab::testing::sealed;

/// What is offered after `line`, whose last word is what is being written; `|` parts words.
fn offered(desk: &Desk, line: &str) -> Vec<String> {
    let words: Vec<&str> = ["--", "tipstaff"].into_iter().chain(line.split('|')).collect();
    let mut command = desk.command(words.clone());
    command.env("TIPSTAFF_COMPLETE", "bash").env("_CLAP_IFS", "\n");
    command.env("_CLAP_COMPLETE_INDEX", (words.len() - 2).to_string());
    let found = finish(command).exits(0);
    assert_eq!(found.stderr, "");
    found.stdout.lines().filter(|it| !it.starts_with("--")).map(str::to_owned).collect()
}

#[test]
fn names_of_the_policy_complete_a_line() {
    let desk = Desk::with(MENDED);
    assert_eq!(offered(&desk, "--host|"), ["sluice", "granary", "bench"]);
    assert_eq!(offered(&desk, "ask|--what|"), ["curators", "herbarium", "nuisance", "stacks"]);
    assert_eq!(offered(&desk, "rule|move|shell|--before|met"), ["metrics"]);
    assert!(offered(&desk, "rule|pause|").contains(&"catalogue".to_owned()));
    assert_eq!(offered(&desk, "rev"), ["review", "revert"]);
}

#[test]
fn a_policy_that_cannot_be_read_offers_nothing_and_says_nothing() {
    let desk = Desk::with("edition = ");
    assert_eq!(offered(&desk, "--host|"), [] as [&str; 0]);
    std::fs::remove_file(desk.path().join("policy.toml")).expect("removed");
    assert_eq!(offered(&desk, "rule|pause|"), [] as [&str; 0]);
}

#[test]
fn a_pipe_is_not_waited_for_and_reasons_are_shown_harmlessly() {
    let policy = "edition = 1\n[place.stacks]\naddresses = [\"10.44.8.0/24\"]\nwhy = \"red \\u001b[31m\"\n\
                  [host.annexe]\naddresses = [\"192.0.2.77\"]\n";
    let desk = Desk::with(policy);
    let mut command = desk.command(["--", "tipstaff", "ask", "--what", ""]);
    command
        .env("TIPSTAFF_COMPLETE", "fish")
        .env("_CLAP_IFS", "\n")
        .env("_CLAP_COMPLETE_INDEX", "3");
    let found = finish(command).exits(0).stdout;
    assert!(found.contains("stacks") && !found.contains('\u{1b}'), "{found:?}");
    let pipe = desk.path().join("pipe");
    rustix::fs::mkfifoat(rustix::fs::CWD, &pipe, 0o600.into()).expect("a pipe");
    assert_eq!(offered(&desk, &format!("--policy|{}|--host|", pipe.display())), [] as [&str; 0]);
}

#[test]
fn the_policy_named_on_the_line_is_the_one_whose_names_are_offered() {
    let desk = Desk::with(MENDED);
    let other = desk.path().join("other.toml");
    std::fs::write(&other, "edition = 1\n[host.annexe]\naddresses = [\"192.0.2.77\"]\n")
        .expect("written");
    let line = format!("--policy|{}|--host|", other.display());
    assert_eq!(offered(&desk, &line), ["annexe"]);
}

#[test]
fn the_version_says_what_was_built_and_for_what() {
    let desk = Desk::with(MENDED);
    let long = desk.run(["--version"]).exits(0).stdout;
    let lines: Vec<&str> = long.lines().collect();
    let [name, commit, target] = lines[..] else { panic!("{long}") };
    assert_eq!(name, format!("tipstaff {}", env!("CARGO_PKG_VERSION")));
    let commit = commit.strip_prefix("commit ").expect("a commit");
    assert!(commit == "unknown" || commit.len() == 12, "{commit}");
    assert!(target.starts_with("target ") && target.contains("linux"), "{target}");
}

#[test]
fn what_the_kernel_can_do_is_found_by_trying_and_changes_nothing() {
    sealed("completing::what_the_kernel_can_do_is_found_by_trying_and_changes_nothing", || {
        let desk = Desk::with(MENDED);
        let report = desk
            .run(["--host", "sluice", "--format", "json", "status", "--kernel"])
            .exits(0)
            .json();
        assert_eq!(report["too_old"], false);
        assert_eq!(report["oldest"], "5.10");
        let names: Vec<&str> = report["abilities"]
            .as_array()
            .expect("a list")
            .iter()
            .map(|it| it["name"].as_str().expect("a name"))
            .collect();
        assert_eq!(
            names,
            ["rules", "programs", "reports", "traces", "flows", "sockets", "router-discovery",]
        );
        for it in report["abilities"].as_array().expect("a list") {
            // In a sealed process that is root in its own namespaces alone, programs cannot be told apart.
            let may_lack =
                ["programs", "router-discovery"].contains(&it["name"].as_str().expect("a name"));
            assert!(may_lack || it["there"] == true, "{it}");
            assert_eq!(
                it["there"] == true,
                it["lacking"].is_null() && it["without"].is_null(),
                "{it}"
            );
        }
        let held = tipstaff_linux::ruleset::read(
            &mut tipstaff_linux::NetlinkSocket::open(tipstaff_linux::Protocol::Netfilter)
                .expect("a socket"),
        );
        assert!(held.expect("readable").is_none(), "nothing was loaded here");
    });
}
