//! `review`, `compare` and `ask` about whole regions.

use crate::harness::{Desk, INHERITED, MENDED, finish};
use std::fs;
use std::io::{BufRead, BufReader};
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use tipstaff_linux::lab::testing::{sealed, street_sluice_granary};

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
        "wide-rule-above",
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

/// Makes the folder a work tree, if it is none, and commits all of it.
fn commit(folder: &Path) {
    let git = |words: &[&str]| {
        let mut command = Command::new("git");
        command.arg("-C").arg(folder).args([
            "-c",
            "user.name=curator",
            "-c",
            "user.email=c@example.org",
        ]);
        // Nothing of whoever runs the tests.
        command.env("HOME", folder).env("GIT_CONFIG_NOSYSTEM", "1").env_remove("GIT_DIR");
        let done = command.args(words).output().expect("git");
        assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    };
    git(&["init", "--quiet"]);
    git(&["add", "."]);
    git(&["commit", "--quiet", "--message=kept"]);
}

#[test]
fn the_committed_version_is_compared() {
    let desk = Desk::with(INHERITED);
    let never = desk.run(["--host", "sluice", "compare", "committed"]).exits(2);
    assert!(never.stderr.contains("git says: fatal: not a git repository"), "{}", never.stderr);
    commit(desk.path());
    desk.run(["--host", "sluice", "compare", "committed"]).exits(0);
    desk.run(["--host", "sluice", "rule", "remove", "shell"]).exits(0);
    let changed = desk.run(["--host", "sluice", "compare", "committed"]).exits(1).stdout;
    assert!(changed.contains("closes") && changed.contains("22/tcp"), "{changed}");
    // Nor is a machine without git one where nothing was ever committed.
    let mut without = desk.command(["--host", "sluice", "compare", "committed"]);
    without.env("PATH", "/nonexistent");
    let without = finish(without).exits(2).stderr;
    assert!(without.contains("git cannot be run: No such file"), "{without}");
}

#[test]
fn the_committed_version_of_a_folder_is_compared() {
    let desk = Desk::with(INHERITED);
    let folder = desk.path().join("kept/policy");
    fs::create_dir_all(&folder).expect("a folder");
    fs::write(folder.join("10-all.toml"), INHERITED).expect("written");
    // What is in a link is a path, and no policy.
    std::os::unix::fs::symlink("/etc/elsewhere.toml", folder.join("30-link.toml")).expect("a link");
    commit(&desk.path().join("kept"));
    fs::remove_file(folder.join("30-link.toml")).expect("removed");
    let compare = || {
        let mut command = desk.command(["--host", "sluice", "compare", "committed"]);
        command.env("TIPSTAFF_POLICY", &folder);
        finish(command)
    };
    compare().exits(0);
    // One that was never committed is part of the policy, and not of the committed one.
    let late = "edition = 1\n[host.late]\naddresses = [\"192.0.2.77\"]\n";
    fs::write(folder.join("20-late.toml"), late).expect("written");
    fs::write(folder.join("10-all.toml"), INHERITED.replace("80/tcp", "88/tcp")).expect("written");
    let changed = compare().exits(1).stdout;
    assert!(changed.contains("opens") && changed.contains("88/tcp"), "{changed}");
}

#[test]
fn what_listens_is_held_against_the_policy() {
    sealed("reviewing::what_listens_is_held_against_the_policy", || {
        let desk = Desk::with(
            "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
             [[host.sluice.rule]]\nname = \"shell\"\nallow = [\"22/tcp\"]\n\
             [[host.sluice.rule]]\nname = \"database\"\nallow = [\"5432/tcp\"]\n\
             from = [\"198.51.100.0/27\"]\n\
             [[host.sluice.rule]]\nname = \"gauge\"\nallow = [\"9100/tcp\", \"9101/udp\"]\n\
             from = [\"198.51.100.0/27\"]\n",
        );
        let _local = TcpListener::bind("127.0.0.1:5432").expect("a port");
        let _gauge = TcpListener::bind("0.0.0.0:9100").expect("a port");
        let _other = TcpListener::bind("[::]:873").expect("a port");
        let mut command = desk.command(["--format", "json", "review", "--live"]);
        command.env("SSH_CONNECTION", "203.0.113.9 50000 192.0.2.10 2202");
        let report = finish(command).exits(1).json();
        let found = |code: &str| -> Vec<String> {
            let findings = report["findings"].as_array().expect("a list");
            let of = findings.iter().filter(|it| it["code"] == code);
            of.map(|it| format!("{}: {}", it["subject"], it["message"])).collect()
        };
        assert_eq!(
            found("no-listener"),
            [
                "\"shell\": \"allows 22/tcp, but nothing listens there\"",
                "\"gauge\": \"allows 9101/udp, but nothing listens there\"",
            ]
        );
        assert_eq!(found("loopback-listener").len(), 1);
        assert!(found("loopback-listener")[0].contains("allows 5432/tcp to others"));
        let unmentioned = found("unmentioned-listener");
        assert_eq!(unmentioned.len(), 1, "{unmentioned:?}");
        assert!(unmentioned[0].contains("listens at 873/tcp, which no rule mentions"));
        let cut = found("session-cut");
        assert!(cut[0].contains("from 203.0.113.9 to 2202/tcp, could not be opened again"));
        // A session that the policy would let in again is not mentioned.
        let mut command = desk.command(["--format", "json", "review", "--live"]);
        command.env("SSH_CONNECTION", "203.0.113.9 50000 192.0.2.10 22");
        let report = finish(command).exits(1).json();
        let findings = report["findings"].as_array().expect("a list");
        assert!(findings.iter().all(|it| it["code"] != "session-cut"));
    });
}

#[test]
fn a_port_that_is_open_wider_than_anyone_uses_is_noted() {
    sealed("reviewing::a_port_that_is_open_wider_than_anyone_uses_is_noted", || {
        let lab = street_sluice_granary();
        let node = |name| lab.node(name).expect("there");
        let (street, sluice, granary) = (node("street"), node("sluice"), node("granary"));
        let desk = Desk::with(
            "edition = 1\n[place.stacks]\naddresses = [\"10.44.8.0/24\", \"fd44:8::/64\"]\n\
             [host.sluice]\naddresses = [\"192.0.2.10\", \"10.44.8.10\", \"fd44:8::10\"]\n\
             [[host.sluice.rule]]\nname = \"gauge\"\nallow = [\"9100/tcp\"]\n",
        );
        let listener = sluice.run(|| TcpListener::bind("[::]:9100").expect("bound"));
        // That the place is not used by any rule is found too.
        let noted = || {
            let report = desk.on(sluice, ["review", "--live", "--format", "json"]).exits(1).json();
            let findings = report["findings"].as_array().expect("a list").clone();
            findings.into_iter().find(|it| it["code"] == "wider-than-used")
        };
        assert_eq!(noted(), None, "nobody uses it");
        let connect = |to: &str| TcpStream::connect(to).expect("connected");
        let first = granary.run(|| connect("10.44.8.10:9100")).expect("entered");
        let second = granary.run(|| connect("[fd44:8::10]:9100")).expect("entered");
        let finding = noted().expect("noted");
        assert_eq!(
            finding["message"],
            "lets anybody reach 9100/tcp; both connections now come from stacks"
        );
        assert_eq!(finding["mend"], "tipstaff rule change gauge --from \"stacks\"");
        // Somebody at no named place uses it too.
        let third = street.run(|| connect("192.0.2.10:9100")).expect("entered");
        assert_eq!(noted(), None);
        drop((listener, first, second, third));
    });
}

#[test]
fn a_policy_is_compared_with_the_kernel() {
    sealed("reviewing::a_policy_is_compared_with_the_kernel", || {
        let desk = Desk::with(INHERITED);
        let nothing = desk.run(["--host", "sluice", "compare", "kernel"]).exits(3);
        assert!(nothing.stderr.contains("no rules of ours are in the kernel"));
        desk.run(["--host", "sluice", "enforce", "--keep"]).exits(0);
        desk.run(["--host", "sluice", "compare", "kernel"]).exits(0);
        desk.write(MENDED);
        // The same as between the two texts, but for names of places.
        let difference = desk.run(["--host", "sluice", "compare", "kernel"]).exits(1).stdout;
        insta::assert_snapshot!(difference);
    });
}

#[test]
fn where_a_service_has_moved_is_found() {
    sealed("reviewing::where_a_service_has_moved_is_found", || {
        let lab = street_sluice_granary();
        let sluice = lab.node("sluice").expect("it");
        let desk = Desk::with(
            "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n[[host.sluice.rule]]\n\
             name = \"catalogue\"\nallow = [\"80/tcp\"]\n[[host.sluice.rule]]\n\
             name = \"gone\"\nallow = [\"81/tcp\"]\n",
        );
        let program = desk.path().join("catalogued");
        fs::copy(env!("CARGO_BIN_EXE_tipstaff"), &program).expect("copied");
        let serve = |ports: &[&str]| {
            let mut command = Command::new(&program);
            command.arg("stand-in").args(ports).stdout(Stdio::piped());
            sluice.start_here(&mut command).expect("the machine is there");
            let mut process = command.spawn().expect("it starts");
            let mut ready = String::new();
            let output = process.stdout.take().expect("piped");
            BufReader::new(output).read_line(&mut ready).expect("it speaks");
            process
        };
        let end = |mut process: Child| {
            process.kill().expect("it is this test's own");
            process.wait().expect("ended");
        };
        let mend = |rule: &str| -> serde_json::Value {
            let found = desk.on(sluice, ["--format", "json", "review", "--live"]).json();
            let findings = found["findings"].as_array().expect("a list").clone();
            let its = |it: &&serde_json::Value| it["code"] == "no-listener" && it["rule"] == rule;
            findings.iter().find(its).expect("nothing listens")["mend"].clone()
        };
        let moved = serve(&["tcp:8080"]);
        assert_eq!(mend("catalogue"), "tipstaff rule change catalogue --allow \"8080/tcp\"");
        assert_eq!(mend("gone"), "tipstaff rule remove gone");
        end(moved);
        // At two ports nobody knows which it is.
        let moved = serve(&["tcp:8080", "tcp:8081"]);
        assert_eq!(mend("catalogue"), "tipstaff rule remove catalogue");
        end(moved);
    });
}

#[test]
fn programs_that_others_can_write_or_give_orders_are_said() {
    let desk = Desk::with("");
    let folder = desk.path().join("bin");
    fs::create_dir(&folder).expect("a folder");
    let policy = |program: &str| {
        format!(
            "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n[[host.sluice.rule]]\n\
             name = \"seeds\"\nallow = [\"5432/tcp\"]\nprogram = \"{program}\"\n"
        )
    };
    let review = |program: &str| {
        desk.write(policy(program));
        desk.run(["review", "--live"]).stdout
    };
    let own = folder.join("seedbase");
    fs::copy("/bin/true", &own).expect("copied");
    fs::set_permissions(&own, fs::Permissions::from_mode(0o777)).expect("a mode");
    let found = review(&own.display().to_string());
    assert!(found.contains("program-writable"), "{found}");
    let found = review("/bin/sh");
    assert!(found.contains("program-is-interpreter"), "{found}");
    let found = review("/bin/true");
    assert!(!found.contains("program-writable") && !found.contains("interpreter"), "{found}");
}
