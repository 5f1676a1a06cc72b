//! `ask`.

use crate::harness::{Desk, INHERITED, MENDED};

fn ask(policy: &str, args: &[&str]) -> serde_json::Value {
    let args = ["ask", "--host", "sluice", "--format", "json"].iter().chain(args);
    Desk::with(policy).run(args).exits(0).json()
}

#[test]
fn the_path_shows_why_a_rule_below_never_decides() {
    let args = ["ask", "--host", "sluice", "--from", "203.0.113.66", "--traffic", "443/tcp"];
    insta::assert_snapshot!(Desk::with(INHERITED).run(args).exits(0).stdout);
}

#[test]
fn verdict_decider_and_packet_have_stable_keys() {
    let answer = ask(INHERITED, &["--from", "2001:db8:51::7", "--traffic", "2202/tcp"]);
    assert_eq!(answer["verdict"], "deny");
    assert_eq!(answer["limited"], false);
    assert_eq!(answer["decided_by"]["kind"], "default");
    assert_eq!(answer["decided_by"]["name"], "default/inbound");
    assert_eq!(
        answer["decided_by"]["origin"],
        serde_json::json!({ "file": "policy.toml", "line": 28 })
    );
    assert_eq!(answer["packet"]["destination"], "2001:db8:2::10");
    let path = answer["path"].as_array().expect("a list");
    assert_eq!(path.last().expect("a step")["takes"], true);
    assert!(path.iter().rev().skip(1).all(|step| step["takes"] == false));
}

#[test]
fn what_is_left_out_is_put_in_as_usual() {
    let limited = ask(MENDED, &["--from", "198.51.100.7", "--traffic", "icmp"]);
    assert_eq!((&limited["verdict"], &limited["limited"]), (&"allow".into(), &true.into()));
    let inside = ask(MENDED, &["--from", "10.44.8.30", "--traffic", "9100/tcp"]);
    assert_eq!(inside["packet"]["destination"], "10.44.8.10");
    let itself = ask(MENDED, &["--from", "192.0.2.10", "--traffic", "5432/tcp"]);
    assert_eq!(itself["decided_by"]["name"], "baseline/loopback");
    let through = [
        "--direction",
        "forwarded",
        "--from",
        "2001:db8:be::2",
        "--to",
        "fd44:8::20",
        "--traffic",
        "873/tcp",
    ];
    assert_eq!(ask(MENDED, &through)["decided_by"]["name"], "copies");
}

#[test]
fn questions_that_mean_nothing_are_refused() {
    let desk = Desk::with(MENDED);
    for (args, word) in [
        (&["--from", "curators", "--traffic", "22/tcp"][..], "more than one address"),
        (&["--from", "198.51.100.7", "--traffic", "22"], "22/tcp+udp"),
        (&["--from", "198.51.100.7", "--traffic", "any"], "more than one kind"),
        (&["--from", "198.51.100.7", "--to", "fd44:8::1", "--traffic", "22/tcp"], "IP version"),
        (&["--traffic", "22/tcp"], "--from is missing"),
        (&["--from", "curator", "--traffic", "22/tcp"], "did you mean `curators`"),
    ] {
        let outcome = desk.run(["ask", "--host", "sluice"].iter().chain(args)).exits(2);
        assert!(outcome.stderr.contains(word), "{args:?}: {}", outcome.stderr);
        assert_eq!(outcome.stdout, "");
    }
}
