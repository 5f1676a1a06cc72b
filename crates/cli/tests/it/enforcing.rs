//! Enforcing as a transaction: what stops it, the way back, the docket, and a reboot.

use crate::harness::{Desk, INHERITED, MENDED, Outcome};
use rustix::process::{Pid, Signal, kill_process_group};
use serde_json::Value;
use std::fs;
use std::net::{SocketAddr, TcpStream};
use std::os::unix::process::CommandExt;
use std::process::Stdio;
use std::time::{Duration, Instant};
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};

pub fn on_sluice(desk: &Desk, args: &[&str]) -> Outcome {
    desk.run(["--host", "sluice"].iter().chain(args))
}

pub fn status(desk: &Desk) -> Value {
    desk.run(["--host", "sluice", "--format", "json", "status"]).json()
}

pub fn docket(desk: &Desk) -> Vec<(String, String)> {
    let list = desk.run(["--format", "json", "docket"]).exits(0).json();
    let entries = list["entries"].as_array().expect("a list").iter();
    let word = |entry: &Value, key: &str| entry[key].as_str().expect("a word").to_owned();
    entries.map(|entry| (word(entry, "kind"), word(entry, "state"))).collect()
}

pub fn pairs(list: &[(&str, &str)]) -> Vec<(String, String)> {
    list.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect()
}

/// Waits until the kernel's rules are, or are not, those of the policy.
pub fn soon(desk: &Desk, within: Duration, wanted: impl Fn(&Value) -> bool) {
    let deadline = Instant::now() + within;
    loop {
        let now = status(desk);
        if wanted(&now) {
            return;
        }
        assert!(Instant::now() < deadline, "{now:#}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn what_is_not_confirmed_goes_by_itself() {
    sealed("enforcing::what_is_not_confirmed_goes_by_itself", || {
        let desk = Desk::with(INHERITED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        desk.write(MENDED);
        let said = on_sluice(&desk, &["enforce", "--confirm-within", "6"]).exits(0).stdout;
        assert!(said.contains("goes back by itself in 6 seconds"), "{said}");
        assert_eq!(status(&desk)["equal"], true);
        assert_eq!(status(&desk)["docket"]["pending"], 2);
        // Nothing else is changed meanwhile.
        for command in [&["enforce", "--keep"][..], &["release", "--keep"]] {
            let refused = on_sluice(&desk, command).exits(1);
            assert!(refused.stderr.contains("entry 2 waits to be confirmed"), "{}", refused.stderr);
        }
        soon(&desk, Duration::from_secs(10), |it| it["equal"] == false);
        let expected = pairs(&[("enforce", "confirmed"), ("enforce", "reverted")]);
        assert_eq!(docket(&desk), expected);
        on_sluice(&desk, &["confirm"]).exits(2);
    });
}

#[test]
fn what_is_confirmed_stays_and_can_be_gone_back_from() {
    sealed("enforcing::what_is_confirmed_stays_and_can_be_gone_back_from", || {
        let desk = Desk::with(INHERITED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        desk.write(MENDED);
        on_sluice(&desk, &["enforce", "--confirm-within", "4"]).exits(0);
        assert!(on_sluice(&desk, &["confirm"]).exits(0).stdout.starts_with("confirmed entry 2"));
        std::thread::sleep(Duration::from_secs(5));
        assert_eq!(status(&desk)["equal"], true, "it stays");
        // Back to what was confirmed before, which the docket still has.
        fs::remove_file(desk.path().join("policy.toml")).expect("the file is gone");
        let said = desk.run(["revert", "--keep"]).exits(0).stdout;
        assert!(said.contains("closes") && said.contains("2202/tcp"), "{said}");
        desk.write(INHERITED);
        assert_eq!(status(&desk)["equal"], true);
        let difference = desk.run(["docket", "compare", "1", "2"]).exits(1).stdout;
        assert!(difference.contains("opens") && difference.contains("9100/tcp"), "{difference}");
        let shown = desk.run(["docket", "show", "2"]).exits(0).stdout;
        assert!(shown.contains("allow = [\"2202/tcp\"]"), "{shown}");
        // At once, while it waits.
        desk.write(MENDED);
        on_sluice(&desk, &["enforce"]).exits(0);
        let back = desk.run(["revert"]).exits(0).stdout;
        assert!(back.contains("entry 3 is in force again"), "{back}");
        assert_eq!(status(&desk)["equal"], false);
        // To any entry, by its number.
        desk.run(["revert", "2", "--keep"]).exits(0);
        assert_eq!(status(&desk)["equal"], true);
    });
}

#[test]
fn releasing_has_a_way_back_too() {
    sealed("enforcing::releasing_has_a_way_back_too", || {
        let desk = Desk::with(MENDED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        desk.run(["release", "--confirm-within", "4"]).exits(0);
        assert_eq!(status(&desk)["in_force"], false);
        soon(&desk, Duration::from_secs(9), |it| it["in_force"] == true && it["equal"] == true);
    });
}

#[test]
fn errors_of_the_review_and_dry_runs_change_nothing() {
    sealed("enforcing::errors_of_the_review_and_dry_runs_change_nothing", || {
        let desk = Desk::with(format!(
            "{INHERITED}\n[[host.sluice.expect]]\ntraffic = [\"2202/tcp\"]\n\
             from = [\"curators\"]\nverdict = \"allow\"\n"
        ));
        let stopped = on_sluice(&desk, &["enforce", "--keep"]).exits(1);
        assert!(stopped.stderr.contains("the review finds an error: expectation-failed"));
        desk.write(MENDED);
        let would = on_sluice(&desk, &["enforce", "--dry-run"]).exits(0).stdout;
        assert!(would.starts_with("would enforce sluice: 7 rules"), "{would}");
        assert_eq!(status(&desk)["in_force"], false);
        assert!(!desk.state().exists(), "not even a docket");
    });
}

#[test]
fn an_unchanged_policy_changes_nothing() {
    sealed("enforcing::an_unchanged_policy_changes_nothing", || {
        let desk = Desk::with(MENDED);
        let lab = street_sluice_granary();
        let (sluice, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let run = |args: &[&str]| desk.on(sluice, ["--host", "sluice"].iter().chain(args));
        run(&["enforce", "--keep"]).exits(0);
        // Something is counted.
        street
            .run(|| {
                let address = "192.0.2.10:2202".parse().expect("an address");
                TcpStream::connect_timeout(&address, Duration::from_millis(300)).is_err()
            })
            .expect("it can be tried");
        let counted = || {
            let status = run(&["--format", "json", "status"]).exits(0).json();
            let rules = status["rules"].as_array().expect("a list").clone();
            rules.iter().filter_map(|rule| rule["packets"].as_u64()).sum::<u64>()
        };
        let before = counted();
        assert!(before > 0);
        let again = run(&["enforce"]).exits(0).stdout;
        assert!(again.starts_with("in force already sluice"), "{again}");
        assert!(counted() >= before, "what was counted stays");
        let list = run(&["--format", "json", "docket"]).exits(0).json();
        assert_eq!(list["entries"].as_array().map(Vec::len), Some(1));
    });
}

#[test]
fn a_kill_at_any_moment_leaves_old_or_new_rules_and_a_docket_that_agrees() {
    sealed(
        "enforcing::a_kill_at_any_moment_leaves_old_or_new_rules_and_a_docket_that_agrees",
        || {
            // `TIPSTAFF_KILLS` asks for more.
            let kills = std::env::var("TIPSTAFF_KILLS");
            let kills: u64 = kills.map_or(24, |it| it.parse().expect("a number"));
            let desk = Desk::with(INHERITED);
            let begun = Instant::now();
            on_sluice(&desk, &["enforce", "--keep"]).exits(0);
            // However busy the machine is: from right after the start to well after the end.
            let whole = begun.elapsed().max(Duration::from_millis(60)) * 2;
            let mut last = INHERITED;
            let (mut old, mut new) = (0, 0);
            for round in 0..kills {
                let next = if last == INHERITED { MENDED } else { INHERITED };
                desk.write(next);
                let mut command = desk.command(["--host", "sluice", "enforce", "--keep"]);
                let mut child =
                    command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("runs");
                // In steps that are spread.
                let part = u32::try_from(round * 37 % 100).expect("below a hundred");
                std::thread::sleep(whole * part / 100);
                child.kill().expect("killed, or done");
                child.wait().expect("ended");
                // One or the other, entirely.
                let arrived = status(&desk)["equal"] == true;
                if arrived {
                    last = next;
                    new += 1;
                } else {
                    desk.write(last);
                    assert_eq!(status(&desk)["equal"], true, "the old rules stand");
                    old += 1;
                }
                // The next command settles what was left open, and works.
                on_sluice(&desk, &["enforce", "--keep"]).exits(0);
                assert!(
                    docket(&desk)
                        .iter()
                        .all(|(_, state)| state == "confirmed" || state == "failed")
                );
            }
            assert!(old > 0 && new > 0, "{old} old, {new} new");
        },
    );
}

#[test]
fn the_end_of_the_session_does_not_end_the_way_back() {
    sealed("enforcing::the_end_of_the_session_does_not_end_the_way_back", || {
        for signal in [Signal::KILL, Signal::HUP] {
            let desk = Desk::with(INHERITED);
            on_sluice(&desk, &["enforce", "--keep"]).exits(0);
            desk.write(MENDED);
            // A shell with all that it started, as a terminal that is closed ends it.
            let program = env!("CARGO_BIN_EXE_tipstaff");
            let script = format!("'{program}' --host sluice enforce --confirm-within 2; sleep 600");
            let plain = desk.command(["show"]);
            // Whoever runs the tests may have chosen not to hear of a terminal that is closed.
            let mut shell = std::process::Command::new("env");
            shell.args(["--default-signal=HUP", "/bin/sh", "-c", &script]);
            shell.current_dir(desk.path()).process_group(0).stderr(Stdio::null());
            shell.envs(plain.get_envs().filter_map(|(key, value)| Some((key, value?))));
            shell.env("PATH", "/usr/bin:/bin").stdin(Stdio::null()).stdout(Stdio::null());
            let mut shell = shell.spawn().expect("it starts");
            soon(&desk, Duration::from_secs(10), |it| it["docket"]["pending"] == 2);
            soon(&desk, Duration::from_secs(10), |it| it["equal"] == true);
            kill_process_group(Pid::from_child(&shell), signal).expect("ended");
            shell.wait().expect("ended");
            soon(&desk, Duration::from_secs(10), |it| it["equal"] == false);
            assert_eq!(docket(&desk)[1].1, "reverted");
        }
    });
}

#[test]
fn rules_that_stay_the_same_go_on_counting() {
    sealed("enforcing::rules_that_stay_the_same_go_on_counting", || {
        // A few rules, and so many that they become lookups.
        for many in [0, 40] {
            let policy = |last: &str| {
                let rules: String = (0..many)
                    .map(|number| {
                        format!(
                            "[[host.sluice.rule]]\nname = \"r{number}\"\n\
                             allow = [\"{}/tcp\"]\nfrom = [\"198.51.100.{number}\"]\n",
                            20_000 + number
                        )
                    })
                    .collect();
                format!(
                    "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
                     [[host.sluice.rule]]\nname = \"stays\"\nallow = [\"2202/tcp\"]\n\
                     from = [\"192.0.2.1\"]\n\
                     [[host.sluice.rule]]\nname = \"slow\"\nallow = [\"2203/tcp\"]\n\
                     rate = \"1/hour\"\n{rules}{last}"
                )
            };
            let more = "[[host.sluice.rule]]\nname = \"more\"\ndeny = [\"9/tcp\"]\n\
                        from = [\"203.0.113.9\"]\n";
            let desk = Desk::with(policy(""));
            let lab = street_sluice_granary();
            let (sluice, street) =
                (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
            desk.on(sluice, ["enforce", "--keep"]).exits(0);
            street
                .run(|| {
                    for port in [2202, 2203, 2203, 2202] {
                        let address = SocketAddr::from(([192, 0, 2, 10], port));
                        // Nobody listens, or silence: counted either way.
                        let _ = TcpStream::connect_timeout(&address, Duration::from_millis(50));
                    }
                })
                .expect("it can be tried");
            let counts = || {
                let status = desk.on(sluice, ["--format", "json", "status"]).exits(0).json();
                let rules = status["rules"].as_array().expect("a list").clone();
                let of = |name: &str| {
                    let rule = rules.iter().find(|rule| rule["name"] == name).expect("there");
                    (rule["packets"].as_u64(), rule["excess_packets"].as_u64())
                };
                [of("stays"), of("slow")]
            };
            let before = counts();
            assert!(before[0].0 >= Some(2) && before[1].0 == Some(1), "{before:?}");
            assert!(before[1].1 >= Some(1), "{before:?}");
            desk.write(policy(more));
            desk.on(sluice, ["enforce", "--keep"]).exits(0);
            assert_eq!(counts(), before, "with {many} rules more");
        }
    });
}

#[test]
fn a_kill_while_confirming_or_going_back_leaves_one_or_the_other() {
    sealed("enforcing::a_kill_while_confirming_or_going_back_leaves_one_or_the_other", || {
        let kills = std::env::var("TIPSTAFF_KILLS");
        let kills: u64 = kills.map_or(24, |it| it.parse().expect("a number"));
        let desk = Desk::with(INHERITED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        let mut last = INHERITED;
        for round in 0..kills {
            let next = if last == INHERITED { MENDED } else { INHERITED };
            desk.write(next);
            on_sluice(&desk, &["enforce", "--confirm-within", "600"]).exits(0);
            let confirming = round % 2 == 0;
            let mut command = desk.command([if confirming { "confirm" } else { "revert" }]);
            let mut child =
                command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("runs");
            std::thread::sleep(Duration::from_micros(300 + (round * 37 % 100) * 500));
            child.kill().expect("killed, or done");
            child.wait().expect("ended");
            // Whatever is left open is settled by saying it again.
            let waits = status(&desk)["docket"]["pending"].is_u64();
            if waits {
                desk.run([if confirming { "confirm" } else { "revert" }]).exits(0);
            }
            last = if confirming { next } else { last };
            desk.write(last);
            assert_eq!(status(&desk)["equal"], true, "round {round}");
            let became = docket(&desk).last().expect("an entry").1.clone();
            let expected = if confirming { "confirmed" } else { "reverted" };
            assert_eq!(became, expected, "round {round}");
        }
    });
}

#[test]
fn a_long_docket_is_shortened_and_can_still_be_gone_back_from() {
    sealed("enforcing::a_long_docket_is_shortened_and_can_still_be_gone_back_from", || {
        let desk = Desk::with(INHERITED);
        on_sluice(&desk, &["enforce", "--keep"]).exits(0);
        // Many that went back came after the one that was kept.
        let file = desk.kept().join("docket.jsonl");
        let whole = fs::read_to_string(&file).expect("text");
        // Lines of before there were sums can be made by hand.
        let first = whole.lines().next().expect("an entry");
        let first = first.rsplit_once(",\"sum\"").expect("a sum").0.to_owned() + "}";
        let many = (2..=1_000).map(|id| {
            let entry = first.replacen("\"id\":1,", &format!("\"id\":{id},"), 1);
            entry.replace("\"intended\"", "\"reverted\"") + "\n"
        });
        fs::write(&file, whole.clone() + &many.collect::<String>()).expect("written");
        desk.write(MENDED);
        on_sluice(&desk, &["enforce", "--confirm-within", "600"]).exits(0);
        let list = docket(&desk);
        assert!(list.len() < 600, "{} entries", list.len());
        assert_eq!(list[0].1, "confirmed", "what was kept last is never left out");
        assert_eq!(fs::read_dir(desk.kept().join("policies")).expect("it").count(), 2);
        desk.run(["revert"]).exits(0);
        desk.write(INHERITED);
        assert_eq!(status(&desk)["equal"], true);
        desk.run(["docket", "show", "1001"]).exits(0);
    });
}

#[test]
fn a_policy_that_a_boot_could_not_load_is_refused() {
    sealed("enforcing::a_policy_that_a_boot_could_not_load_is_refused", || {
        let desk = Desk::with(INHERITED);
        let on_sluice = |args: &[&str]| desk.run([&["--host", "sluice"], args].concat());
        let refused = on_sluice(&["enforce", "--keep", "--boot-memory", "1"]).exits(2);
        assert!(
            refused.stderr.contains("more than the 1 that it may take; nothing was changed"),
            "{}",
            refused.stderr
        );
        assert!(refused.stderr.contains("--boot-memory 64"), "{}", refused.stderr);
        assert!(on_sluice(&["status"]).exits(1).stdout.contains("not in force"));
        on_sluice(&["enforce", "--keep"]).exits(0);
    });
}
