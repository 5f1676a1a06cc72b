//! `enforce`, `status` and `release` on the real kernel.

use crate::harness::{Desk, INHERITED, MENDED};
use std::os::unix::fs::PermissionsExt;
use tipstaff_linux::lab::testing::sealed;
use tipstaff_linux::ruleset::TABLE;
use tipstaff_linux::{NetlinkSocket, Protocol, Transport};
use tipstaff_wire::nf_tables as nf;

const ON_SLUICE: [&str; 2] = ["--host", "sluice"];

fn sluice<'a>(args: &[&'a str]) -> Vec<&'a str> {
    ON_SLUICE.iter().chain(args).copied().collect()
}

/// Adds a rule to our table that lets everything over TCP pass, at its end, as a stray hand would.
fn stray_rule() {
    let mut batch = nf::Batch::begin(1);
    batch.new_rule(&nf::Rule {
        table: TABLE.into(),
        chain: "forwarded".into(),
        expressions: vec![nf::Expression::Immediate(nf::Verdict::Accept)],
        ..nf::Rule::default()
    });
    let mut socket = NetlinkSocket::open(Protocol::Netfilter).expect("a socket");
    socket.send(&batch.finish().expect("fits").bytes).expect("sent");
    socket.receive().expect("answered");
}

#[test]
fn the_round_of_enforcing_looking_and_releasing() {
    sealed("kernel::the_round_of_enforcing_looking_and_releasing", || {
        let desk = Desk::with(INHERITED);
        let status = desk.run(sluice(&["status"])).exits(1);
        assert!(status.stdout.contains("not in force"), "{}", status.stdout);

        let first = desk.run(sluice(&["enforce", "--keep"])).exits(0);
        assert_eq!(
            first.stdout,
            "enforced sluice: 5 rules; no rules of ours were in force before\n"
        );
        insta::assert_snapshot!(desk.run(sluice(&["status"])).exits(0).stdout);

        desk.write(MENDED);
        let status = desk.run(sluice(&["status"])).exits(1);
        assert!(status.stdout.contains("in force, but different"), "{}", status.stdout);
        assert!(status.stdout.contains("the policy says"), "{}", status.stdout);
        let second = desk.run(sluice(&["enforce", "--keep"])).exits(0);
        assert_eq!(
            second.stdout,
            "enforced sluice: 6 rules; new: metrics; changed: shell; the order is another\n"
        );
        let again = desk.run(sluice(&["enforce", "--keep"])).exits(0);
        assert_eq!(again.stdout, "enforced sluice: 6 rules; nothing changed\n");

        stray_rule();
        let status = desk.run(sluice(&["status", "--format", "json"])).exits(1).json();
        assert_eq!((&status["in_force"], &status["equal"]), (&true.into(), &false.into()));
        let message = status["differences"][0]["message"].as_str().expect("a text");
        assert!(message.contains("one more part of `(not ours)`"), "{message}");
        desk.run(sluice(&["enforce", "--keep"])).exits(0);
        desk.run(sluice(&["status"])).exits(0);

        let released = desk.run(["release"]).exits(0);
        assert!(released.stdout.starts_with("released sluice"), "{}", released.stdout);
        let nothing = desk.run(["release"]).exits(0);
        assert!(nothing.stdout.starts_with("nothing to release"), "{}", nothing.stdout);
    });
}

#[test]
fn without_keep_nothing_is_done_and_that_is_said() {
    sealed("kernel::without_keep_nothing_is_done_and_that_is_said", || {
        let desk = Desk::with(MENDED);
        let outcome = desk.run(sluice(&["enforce"])).exits(2);
        assert!(outcome.stderr.contains("nothing was enforced"), "{}", outcome.stderr);
        let status = desk.run(sluice(&["status", "--format", "json"])).exits(1).json();
        assert_eq!(status["in_force"], false);
        assert_eq!(status["equal"], serde_json::Value::Null);
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
