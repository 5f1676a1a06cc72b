//! What can be said of a machine that was recorded.

use crate::given::{Desk, INHERITED, MENDED, answers, machine, policy, sluice};
use serde_json::{Value, json};
use tipstaff_app::vocabulary::{BootService, Severity};
use tipstaff_app::{
    Failure, Outcome, cut, draft, facts, kernel, programs, reach, rehearse, review, status,
};

fn line(failure: &Failure) -> String {
    assert_eq!(failure.outcome(), Outcome::Refused, "{}", failure.line());
    failure.line()
}

#[test]
fn the_policy_in_force_is_told_from_another() {
    let (machine, desk) = (sluice(), Desk::new());
    let same = status::report(&machine, &policy(&machine, MENDED), &desk.home).expect("told");
    assert_eq!((same.in_force, same.equal, same.same_form), (true, Some(true), Some(true)));
    assert_eq!((same.outcome(), same.after_reboot), (Outcome::Fine, false));
    assert_eq!(same.rules.len(), 22);
    let other = status::report(&machine, &policy(&machine, INHERITED), &desk.home).expect("told");
    assert_eq!((other.equal, other.outcome()), (Some(false), Outcome::Found));
    let witness = other.differences.iter().find_map(|it| it.witness.as_ref()).expect("a packet");
    assert_ne!(witness.policy, witness.kernel);
}

#[test]
fn a_table_that_sleeps_or_is_gone_is_not_in_force() {
    let desk = Desk::new();
    let mut asleep = answers();
    asleep["rules"]["told"]["dormant"] = json!(true);
    let mut gone = answers();
    gone["rules"] = json!({"told": null});
    for (answers, dormant, equal) in [(asleep, true, Some(true)), (gone, false, None)] {
        let machine = machine(answers);
        let report = status::report(&machine, &policy(&machine, MENDED), &desk.home).expect("told");
        assert_eq!((report.in_force, report.dormant, report.equal), (false, dormant, equal));
        assert_eq!(report.outcome(), Outcome::Found);
    }
}

#[test]
fn what_loads_the_rules_at_boot_is_seen() {
    let desk = Desk::new();
    for (path, word) in [
        ("/etc/systemd/system/multi-user.target.wants/tipstaff.service", "systemd"),
        ("/etc/runlevels/sysinit/tipstaff", "openrc"),
    ] {
        let mut with = answers();
        assert_eq!(with["paths"][path], false, "it was asked for");
        with["paths"][path] = json!(true);
        let machine = machine(with);
        let report = status::report(&machine, &policy(&machine, MENDED), &desk.home).expect("told");
        assert_eq!(report.boot_service.map(BootService::as_str), Some(word));
        // Nothing was confirmed by this docket.
        assert!(!report.after_reboot);
    }
}

#[test]
fn a_first_policy_is_drafted_from_what_was_recorded() {
    let report = draft::report(&sluice(), &draft::Wanted::default()).expect("told");
    insta::assert_snapshot!(report.policy);
    assert_eq!(report.unseen, Vec::<String>::new());
    let mut secretive = answers();
    secretive["flows"] = json!({"not_permitted": "list connections"});
    let report = draft::report(&machine(secretive), &draft::Wanted::default()).expect("told");
    assert_eq!(report.unseen, ["who uses UDP services, which the system shows to root only"]);
}

#[test]
fn findings_are_about_what_listened() {
    let machine = sluice();
    let report = review::report(&machine, &policy(&machine, INHERITED), true).expect("told");
    let found = report.findings.iter().filter(|it| it.severity != Severity::Note);
    let words: Vec<String> =
        found.map(|it| format!("{}: {}", it.code.as_str(), it.message)).collect();
    insta::assert_snapshot!(words.join("\n"));
}

#[test]
fn what_lives_on_is_told_and_one_s_own_session_with_it() {
    let report = cut::report(&sluice(), cut::End::None).expect("told");
    assert_eq!(
        (report.host.as_str(), report.cut, report.outcome()),
        ("sluice", false, Outcome::Fine)
    );
    let words = |report: &cut::Report| -> Vec<String> {
        let one =
            |it: &cut::Living| format!("{} {} {} {}", it.from, it.traffic, it.by, it.own_session);
        report.living.iter().map(one).collect()
    };
    assert_eq!(
        words(&report),
        ["2001:db8:bad::9 2202/tcp default/inbound false", "203.0.113.66 443/tcp nuisance false"]
    );
    let mut within = answers();
    let connections = within["under_way"][0][1]["told"].as_array().expect("TCP's").clone();
    let peer = |it: &&Value| it["peer"].as_str().is_some_and(|it| it.starts_with("203.0.113.66:"));
    let peer = connections.iter().find(peer).expect("it").get("peer").and_then(Value::as_str);
    let port: u16 = peer.and_then(|it| it.rsplit(':').next()?.parse().ok()).expect("a port");
    within["own_session"] = json!({
        "client": "203.0.113.66", "client_port": port, "server": "192.0.2.10", "port": 443
    });
    let report = cut::report(&machine(within), cut::End::None).expect("told");
    assert_eq!(words(&report)[1], "203.0.113.66 443/tcp nuisance true");
}

#[test]
fn what_was_refused_is_never_taken_for_nothing() {
    let desk = Desk::new();
    let refused = |keys: &[&str]| {
        let mut answers = answers();
        for key in keys {
            answers[key] =
                json!({"refused": {"doing": "say it", "errno": 5, "words": "Input/output error"}});
        }
        machine(answers)
    };
    let rules = refused(&["rules", "generation"]);
    let mended = policy(&rules, MENDED);
    let words = "the kernel refuses to say it: Input/output error";
    assert_eq!(line(&status::report(&rules, &mended, &desk.home).expect_err("refused")), words);
    assert_eq!(line(&cut::report(&rules, cut::End::None).expect_err("refused")), words);
    assert_eq!(line(&programs::report(&rules).expect_err("refused")), words);
    assert_eq!(line(&kernel::report(&rules, &mended).expect_err("refused")), words);
    let others = refused(&["others"]);
    assert_eq!(line(&status::report(&others, &mended, &desk.home).expect_err("refused")), words);
    for protocol in 0..3 {
        let mut answers = answers();
        answers["waiting"][protocol][1] = json!({"not_permitted": "list sockets"});
        let machine = machine(answers);
        let words = "the kernel does not permit this user to list sockets";
        assert_eq!(
            line(&draft::report(&machine, &draft::Wanted::default()).expect_err("refused")),
            words
        );
        let live = review::report(&machine, &policy(&machine, MENDED), true);
        assert_eq!(line(&live.expect_err("refused")), words);
    }
    // Where there may be flows that one may not see, something may live on.
    let mut answers = answers();
    answers["flows"] = json!({"not_permitted": "list connections"});
    let failure = cut::report(&machine(answers), cut::End::None).expect_err("refused");
    assert!(line(&failure).contains("list connections"), "{}", failure.line());
}

/// A kernel may have a protocol and no list of its sockets. Nothing else is given up for that, and nothing of it
/// is said to be none.
#[test]
fn what_cannot_be_listed_of_one_protocol_does_not_hide_the_others() {
    let mut answers = answers();
    let refusal = json!({"refused": {"doing": "list the sockets of sctp", "errno": 2, "words": "No such file"}});
    assert_eq!(answers["waiting"][2][0], "sctp");
    (answers["waiting"][2][1], answers["under_way"][2][1]) = (refusal.clone(), refusal);
    let machine = machine(answers);
    let unseen = ["what speaks sctp: the kernel refuses to list the sockets of sctp: No such file"];
    let report = cut::report(&machine, cut::End::None).expect("told");
    assert_eq!((report.living.len(), &report.unknown[..]), (2, &unseen.map(str::to_owned)[..]));
    assert_eq!(draft::report(&machine, &draft::Wanted::default()).expect("told").unseen, unseen);
    let rules = "[[host.sluice.rule]]\nname = \"diameter\"\nallow = [\"3868/tcp+sctp\"]\nfrom = [\"stacks\"]\n";
    let text =
        MENDED.replacen("[[host.sluice.rule]]", &format!("{rules}\n[[host.sluice.rule]]"), 1);
    let loaded = policy(&machine, &text);
    let report = review::report(&machine, &loaded, true).expect("told");
    assert_eq!(report.unknown, unseen);
    let about = |report: &review::Report| -> Vec<String> {
        let its = report.findings.iter().filter(|it| it.rule.as_deref() == Some("diameter"));
        its.map(|it| it.message.clone()).collect()
    };
    assert_eq!(about(&report), ["allows 3868/tcp, but nothing listens there"]);
    let known = review::report(&sluice(), &loaded, true).expect("told");
    assert_eq!(about(&known), ["allows 3868/tcp+sctp, but nothing listens there"]);
    assert!(known.unknown.is_empty());
    let wanted = reach::Request { from: &[], vantages: &[], patience: std::time::Duration::ZERO };
    let report = reach::report(&machine, &loaded, &wanted).expect("told");
    assert_eq!((report.listeners.len(), &report.unknown[0]), (5, &unseen[0].to_owned()));
}

#[test]
fn what_needs_the_machine_itself_is_refused() {
    let machine = sluice();
    let mended = policy(&machine, MENDED);
    let only = "only its answers were kept";
    let live =
        rehearse::Request { live: true, from: &[], traffic: None, quick: false, instead: None };
    let failure = rehearse::report(&machine, &mended, &live, &|_, _| {}).expect_err("refused");
    assert!(line(&failure).ends_with(only), "{}", failure.line());
    let failure = kernel::report(&machine, &mended).expect_err("refused");
    assert!(
        line(&failure).contains("was not asked when the machine was recorded"),
        "{}",
        failure.line()
    );
    // What a copy would meet stays unknown; all else is told.
    let wanted = reach::Request { from: &[], vantages: &[], patience: std::time::Duration::ZERO };
    let report = reach::report(&machine, &mended, &wanted).expect("told");
    assert!(
        !report.copied && report.unknown.iter().any(|it| it.contains(only)),
        "{:?}",
        report.unknown
    );
    let ports: Vec<u16> = report.listeners.iter().map(|it| it.port).collect();
    assert_eq!(ports, [80, 443, 443, 2202, 9100]);
    assert!(
        report.listeners.iter().all(|it| it.program.as_deref() == Some("/usr/sbin/catalogued"))
    );
}

#[test]
fn a_recorded_machine_has_the_facts_that_it_was_made_of() {
    let machine = sluice();
    let report = facts::report(&machine, None, false).expect("told");
    assert_eq!(report.machine, answers());
    let told = |about: &str| {
        let asked = report.asked.iter().find(|it| it.about == about);
        asked.unwrap_or_else(|| panic!("{about} is asked")).told
    };
    assert_eq!(told("decisions in force"), Some(22));
    assert_eq!(told("sockets that wait"), Some(5));
}
