//! `enforce`, `status` and `release` on the real kernel.

use crate::harness::{Desk, INHERITED, MENDED, give};
use std::os::unix::fs::PermissionsExt;
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::ruleset::TABLE;
use tipstaff_wire::nf_tables as nf;

const ON_SLUICE: [&str; 2] = ["--host", "sluice"];

fn sluice<'a>(args: &[&'a str]) -> Vec<&'a str> {
    ON_SLUICE.iter().chain(args).copied().collect()
}

/// Adds a rule to our table that lets everything pass, at its end, as a stray hand would.
pub(crate) fn stray_rule() {
    let mut batch = nf::Batch::begin(1);
    batch.new_rule(&nf::Rule {
        table: TABLE.into(),
        chain: "forwarded".into(),
        expressions: vec![nf::Expression::Immediate(nf::Verdict::Accept)],
        ..nf::Rule::default()
    });
    give(batch);
}

/// Hangs a chain of one's own into our table, ahead of all others.
pub(crate) fn stray_chain() {
    let mut batch = nf::Batch::begin(1);
    batch.new_chain(&nf::Chain {
        table: TABLE.into(),
        name: "flood".into(),
        kind: Some("filter".into()),
        hook: Some(nf::Hook { number: nf::Hook::PRE_ROUTING, priority: 0 }),
        policy: Some(0),
        ..nf::Chain::default()
    });
    give(batch);
}

#[test]
fn the_round_of_enforcing_looking_and_releasing() {
    sealed("kernel::the_round_of_enforcing_looking_and_releasing", || {
        let desk = Desk::with(INHERITED);
        let status = desk.run(sluice(&["status"])).exits(1);
        assert!(status.stdout.contains("not in force"), "{}", status.stdout);

        let first = desk.run(sluice(&["enforce", "--keep"])).exits(0);
        let lead = "enforced sluice: 6 rules; no rules of ours were in force before\n\n\
                    inbound: closed from now on, but for what the baseline serves and\n  \
                    22/tcp from curators (shell)\n";
        assert!(first.stdout.starts_with(lead), "{}", first.stdout);
        insta::with_settings!({filters => vec![(r"since \S+Z", "since [time]")]}, {
            insta::assert_snapshot!(desk.run(sluice(&["status"])).exits(0).stdout);
        });

        desk.write(MENDED);
        let status = desk.run(sluice(&["status"])).exits(1);
        assert!(status.stdout.contains("in force, but different"), "{}", status.stdout);
        assert!(status.stdout.contains("the policy says"), "{}", status.stdout);
        let second = desk.run(sluice(&["enforce", "--keep"])).exits(0);
        let said = "enforced sluice: 7 rules; new: metrics; changed: catalogue, nuisance, reading-room, shell\n";
        assert!(second.stdout.starts_with("this will change:\n"), "{}", second.stdout);
        assert!(second.stdout.ends_with(said), "{}", second.stdout);
        assert!(second.stdout.contains("opens   9100/tcp"), "{}", second.stdout);
        let again = desk.run(sluice(&["enforce", "--keep"])).exits(0);
        assert!(again.stdout.starts_with("in force already sluice"), "{}", again.stdout);

        stray_rule();
        let status = desk.run(sluice(&["status", "--format", "json"])).exits(0).json();
        // Behind the default no packet comes to it.
        assert_eq!((&status["equal"], &status["same_form"]), (&true.into(), &false.into()));
        let message = status["differences"][0]["message"].as_str().expect("a text");
        assert!(message.contains("one more part of `(not ours)`"), "{message}");
        desk.run(sluice(&["enforce", "--keep"])).exits(0);
        desk.run(sluice(&["status"])).exits(0);

        stray_chain();
        let status = desk.run(sluice(&["status"])).exits(1).stdout;
        assert!(status.contains("in force, but different"), "{status}");
        assert!(status.contains("has a chain `flood` that the policy does not ask"), "{status}");
        desk.run(sluice(&["enforce", "--keep"])).exits(0);
        desk.run(sluice(&["status"])).exits(0);

        let released = desk.run(["release", "--keep"]).exits(0);
        assert!(released.stdout.starts_with("released: our rules"), "{}", released.stdout);
        let nothing = desk.run(["release", "--keep"]).exits(0);
        assert!(nothing.stdout.starts_with("nothing to release"), "{}", nothing.stdout);
    });
}

#[test]
fn a_policy_that_others_can_rewrite_is_not_enforced() {
    sealed("kernel::a_policy_that_others_can_rewrite_is_not_enforced", || {
        let desk = Desk::with(MENDED);
        let file = desk.path().join("policy.toml");
        for mode in [0o664, 0o646] {
            let permissions = std::fs::Permissions::from_mode(mode);
            std::fs::set_permissions(&file, permissions).expect("a mode");
            let outcome = desk.run(sluice(&["enforce", "--keep"])).exits(2);
            assert!(outcome.stderr.contains("chmod go-w policy.toml"), "{}", outcome.stderr);
            desk.run(sluice(&["show"])).exits(0);
        }
        assert_eq!(desk.run(sluice(&["status", "--format", "json"])).json()["in_force"], false);
    });
}

/// A table of somebody else that drops what it leaves undecided, ahead of ours.
fn somebody_elses_table() {
    let mut batch = nf::Batch::begin(1);
    batch.new_table(&nf::Table { name: "alma\u{1b}nac".into(), ..nf::Table::default() });
    batch.new_chain(&nf::Chain {
        table: "alma\u{1b}nac".into(),
        name: "tides".into(),
        kind: Some("filter".into()),
        hook: Some(nf::Hook { number: nf::Hook::LOCAL_IN, priority: -5 }),
        policy: Some(0),
        ..nf::Chain::default()
    });
    give(batch);
}

/// A table of somebody else that lets everything pass, but for what its one rule may do.
fn another_table(name: &str, rule: nf::Expression) {
    let mut batch = nf::Batch::begin(1);
    batch.new_table(&nf::Table { name: name.into(), ..nf::Table::default() });
    batch.new_chain(&nf::Chain {
        table: name.into(),
        name: "ebb".into(),
        kind: Some("filter".into()),
        hook: Some(nf::Hook { number: nf::Hook::LOCAL_IN, priority: 5 }),
        policy: Some(1),
        ..nf::Chain::default()
    });
    batch.new_rule(&nf::Rule {
        table: name.into(),
        chain: "ebb".into(),
        expressions: vec![rule],
        ..nf::Rule::default()
    });
    give(batch);
}

#[test]
fn whether_others_can_deny_is_told() {
    sealed("kernel::whether_others_can_deny_is_told", || {
        another_table("harmless", nf::Expression::Immediate(nf::Verdict::Accept));
        another_table("strict", nf::Expression::Immediate(nf::Verdict::Drop));
        let desk = Desk::with(MENDED);
        desk.run(sluice(&["enforce", "--keep"])).exits(0);
        let status = desk.run(sluice(&["status"])).exits(0).stdout;
        assert!(status.contains("harmless drops nothing."), "{status}");
        assert!(status.contains("strict can keep out what this policy allows"), "{status}");
        let others = desk.run(sluice(&["status", "--format", "json"])).exits(0).json();
        let denies = |name: &str| {
            let others = others["others"].as_array().expect("a list");
            others.iter().find(|it| it["name"] == name).expect("there")["denies"].clone()
        };
        assert_eq!((denies("harmless"), denies("strict")), ("never".into(), "can".into()));
    });
}

#[test]
fn others_that_also_decide_are_named_and_left_alone() {
    sealed("kernel::others_that_also_decide_are_named_and_left_alone", || {
        somebody_elses_table();
        let desk = Desk::with(MENDED);
        desk.run(sluice(&["enforce", "--keep"])).exits(0);
        let text = desk.run(sluice(&["status"])).exits(0).stdout;
        // Their names come from outside.
        assert!(text.contains("alma\\u{1b}nac"), "{text}");
        assert!(text.contains("inbound, before ours") && text.contains("dropped"), "{text}");
        let others = &desk.run(sluice(&["status", "--format", "json"])).exits(0).json()["others"];
        assert_eq!(others[0]["chains"][0]["drops_the_rest"], true);
        desk.run(["release", "--keep"]).exits(0);
        let after = desk.run(sluice(&["status", "--format", "json"])).exits(1).json();
        assert_eq!(after["others"], *others);
    });
}

#[test]
fn json_of_every_command_has_the_keys_that_programs_rely_on() {
    sealed("kernel::json_of_every_command_has_the_keys_that_programs_rely_on", || {
        let desk = Desk::with(MENDED);
        let json = |args: &[&str], code| {
            desk.run(sluice(args).iter().chain(&["--format", "json"])).exits(code).json()
        };
        let keys = |value: &serde_json::Value| {
            value.as_object().expect("an object").keys().cloned().collect::<Vec<_>>().join(" ")
        };
        let enforced = json(&["enforce", "--keep"], 0);
        let known = &json(&["docket"], 0)["entries"][0]["rules"];
        assert_eq!(known.as_str().map(str::len), Some(64), "SHA-256 of the rules");
        assert_eq!(
            keys(&enforced),
            "done posture entry confirm_within host replaced rules paused ended left_out programs \
             not_recognised by_parts new changed gone changes more_changes changes_known stays_open living_on living remarks"
        );
        let status = json(&["status"], 0);
        assert_eq!(
            keys(&status),
            "host in_force dormant enforced_host equal same_form docket kept_trouble odd_interfaces programs left_out after_reboot boot_service \
             differences rules posture places attended logging others older_tables"
        );
        assert_eq!(
            keys(&status["rules"][0]),
            "direction kind name verdict packets bytes excess_packets excess_bytes crowded_packets"
        );
        let reach = json(&["reach"], 0);
        assert_eq!(
            keys(&reach),
            "host listeners came_within_seconds pings findings copied stopped_on_the_way unknown kernel_unreadable"
        );
        let rehearsed = json(&["rehearse", "--traffic", "443/tcp"], 0);
        assert_eq!(
            keys(&rehearsed),
            "host posture tried evidence packets sent seconds every_port rows members members_left_out \
             disagreements not_known witnesses missing"
        );
        assert_eq!(
            keys(&rehearsed["rows"][0]),
            "from senders source destination interface source_port program user version packets open \
             closed limited rejected passed_on stopped_early"
        );
        assert_eq!(keys(&json(&["draft"], 0)), "policy unseen");
        let ask = json(&["ask", "--from", "203.0.113.9", "--traffic", "443/tcp"], 0);
        assert_eq!(
            keys(&ask),
            "host packet verdict limited answered decided_by path depends_on answers led"
        );
        assert_eq!(keys(&ask["decided_by"]), "kind name origin");
        assert_eq!(
            keys(&json(&["release", "--keep"], 0)),
            "done posture entry confirm_within changes more_changes changes_known stays_open living_on living remarks"
        );
    });
}

#[test]
fn a_refusal_by_the_kernel_is_shown_at_the_line_it_stems_from() {
    sealed("kernel::a_refusal_by_the_kernel_is_shown_at_the_line_it_stems_from", || {
        let desk = Desk::with(MENDED);
        desk.run(sluice(&["enforce", "--keep"])).exits(0);
        // The kernel counts in nanoseconds, and so many days of them are too many.
        let rule = "name = \"metrics\"\nrate = \"1/day, burst 1000000\"";
        desk.write(MENDED.replace("name = \"metrics\"", rule));
        let refused = desk.run(sluice(&["enforce", "--keep"])).exits(3);
        // The words for the kernel's number are the C library's.
        let words = ("Value too large for data type", "Value too large for defined data type");
        insta::assert_snapshot!(refused.stderr.replace(words.0, words.1));
        // What was in force still is.
        desk.write(MENDED);
        desk.run(sluice(&["status"])).exits(0);
    });
}

#[test]
fn a_rule_that_has_ended_is_left_out_and_said() {
    sealed("kernel::a_rule_that_has_ended_is_left_out_and_said", || {
        let rule = "name = \"metrics\"\nuntil = 2001-02-03T04:05:06Z";
        let desk = Desk::with(MENDED.replace("name = \"metrics\"", rule));
        let text = desk.run(sluice(&["enforce", "--keep"])).exits(0).stdout;
        assert!(text.contains("6 rules, 1 ended and left out (metrics);"), "{text}");
        desk.run(sluice(&["status"])).exits(0);
    });
}

#[test]
fn a_table_that_another_process_owns_is_told_apart_from_a_missing_right() {
    sealed("kernel::a_table_that_another_process_owns_is_told_apart_from_a_missing_right", || {
        use tipstaff_linux::{NetlinkSocket, Protocol, deliver};
        let desk = Desk::with(MENDED);
        // It lives as long as the socket that made it.
        let mut owner = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
        let mut batch = nf::Batch::begin(1);
        batch.new_table(&nf::Table { name: TABLE.into(), flags: 2, ..nf::Table::default() });
        let refused = deliver(&mut owner, "try", &batch.finish().expect("fits"));
        assert_eq!(refused.expect("answered"), []);
        let refused = desk.run(sluice(&["enforce", "--keep"])).exits(3);
        assert!(refused.stderr.contains("another process has made a table"), "{}", refused.stderr);
        assert!(!refused.stderr.contains("as root"), "{}", refused.stderr);
        drop(owner);
        desk.run(sluice(&["enforce", "--keep"])).exits(0);
    });
}

#[test]
fn waking_our_table_is_no_small_thing() {
    sealed("kernel::waking_our_table_is_no_small_thing", || {
        let desk = Desk::with(MENDED);
        desk.run(sluice(&["enforce", "--keep"])).exits(0);
        let mut batch = nf::Batch::begin(1);
        batch.new_table(&nf::Table { name: TABLE.into(), flags: 1, ..nf::Table::default() });
        give(batch);
        let said = desk.run(sluice(&["enforce", "--keep"])).exits(0).stdout;
        assert!(said.contains("our table was asleep and decided nothing"), "{said}");
        desk.run(sluice(&["status"])).exits(0);
    });
}

#[test]
fn where_nobody_knows_the_time_what_is_allowed_for_a_time_is_over() {
    sealed("kernel::where_nobody_knows_the_time_what_is_allowed_for_a_time_is_over", || {
        let desk = Desk::with(
            "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n[[host.sluice.rule]]\n\
             name = \"visitors\"\nallow = [\"80/tcp\"]\nuntil = 2097-01-01T00:00:00Z\n\
             [[host.sluice.rule]]\nname = \"nuisance\"\ndeny = [\"443/tcp\"]\n\
             until = 2097-01-01T00:00:00Z\n",
        );
        let said = desk.run(["enforce", "--keep"]).exits(0).stdout;
        assert!(said.starts_with("enforced sluice: 2 rules;"), "{said}");
        // The file is from a time that has not come: the clock is behind.
        let later = std::time::SystemTime::now() + std::time::Duration::from_secs(86_400);
        let file = std::fs::File::options().write(true).open(desk.path().join("policy.toml"));
        file.expect("opened").set_modified(later).expect("set");
        let said = desk.run(["enforce", "--keep"]).exits(0).stdout;
        assert!(said.contains("the clock shows a time before the policy was changed"), "{said}");
        let status = desk.run(["--format", "json", "status"]).json();
        let rules = status["rules"].as_array().expect("a list").iter();
        let counted: Vec<&str> = rules.filter_map(|it| it["name"].as_str()).collect();
        assert!(counted.contains(&"nuisance"), "{counted:?}");
        let ask = |traffic: &str| {
            let differs = desk.run(["compare", "kernel"]).stdout;
            differs.contains(traffic)
        };
        assert!(ask("80/tcp") && !ask("443/tcp"), "what is allowed is over, what is denied stays");
    });
}
