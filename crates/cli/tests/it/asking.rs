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

/// What the question leaves open and the answer depends on is told with every answer.
#[test]
fn every_answer_is_given_where_the_question_leaves_something_open() {
    let policy = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
                  interfaces = { outside = \"eth0\" }\n\
                  [[host.sluice.rule]]\nname = \"gauge\"\nallow = [\"9100/tcp\"]\n\
                  program = \"/srv/tidegauge\"\nsource-ports = [\"1024-65535\"]\n\
                  ingress = [\"outside\"]\n";
    let base = ["--from", "203.0.113.9", "--traffic", "9100/tcp", "--format", "json"];
    let run = |more: &[&str]| {
        let all = ["ask"].iter().chain(&base).chain(more);
        Desk::with(policy).run(all)
    };
    let open = run(&[]).exits(1).json();
    assert_eq!(open["depends_on"], serde_json::json!(["ingress", "program", "source-port"]));
    let one = &open["answers"][0];
    assert_eq!((&one["verdict"], &one["decided_by"]["name"]), (&"allow".into(), &"gauge".into()));
    let when = one["when"][0].as_str().expect("words");
    assert_eq!(when, "from port 1024-65535 in by eth0 (program /srv/tidegauge)");
    // Each that is named is open no more; with all of them there is one answer.
    let two = run(&["--ingress", "outside", "--source-port", "5000"]).exits(1).json();
    assert_eq!(two["depends_on"], serde_json::json!(["program"]));
    let all = ["--ingress", "eth0", "--source-port", "5000", "--program", "/srv/tidegauge"];
    let all = run(&all).exits(0).json();
    assert_eq!(
        (&all["verdict"], all["answers"].as_array().map(Vec::len)),
        (&"allow".into(), Some(0))
    );
    let low = run(&["--source-port", "80"]).exits(0).json();
    assert_eq!(low["verdict"], "deny", "whatever else is open");
}

#[test]
fn kinds_of_icmp_and_states_can_be_asked_about() {
    let asked = |words: &[&str]| {
        let all = ["--from", "203.0.113.9", "--traffic"].iter().chain(words);
        ask(MENDED, &all.copied().collect::<Vec<_>>())
    };
    // What nobody asked for fits no flow; of a flow, it is an answer.
    assert_eq!(asked(&["icmp:echo-reply"])["decided_by"]["name"], "baseline/invalid");
    let related = asked(&["icmp:echo-reply", "--tracked", "established"]);
    assert_eq!(related["decided_by"]["name"], "baseline/replies");
    assert_eq!(asked(&["proto:47"])["decided_by"]["name"], "default/inbound");
    let desk = Desk::with(MENDED);
    for (words, told) in [
        (&["icmp:packet-too-big"][..], "no packet of IPv4 carries icmp:packet-too-big"),
        (&["icmp", "--source-port", "7"], "packets of icmp come from no port"),
        (&["443/tcp", "--ingress", "cellar"], "`sluice` has no such interface"),
        (&["443/tcp", "--egress", "outside"], "--egress is not for inbound packets"),
    ] {
        let all = ["ask", "--host", "sluice", "--from", "203.0.113.9", "--traffic"];
        let refused = desk.run(all.iter().chain(words)).exits(2).stderr;
        assert!(refused.contains(told), "{refused}");
    }
    // What goes to the host itself never leaves it.
    let itself = ["--direction", "outbound", "--to", "192.0.2.10", "--traffic", "443/tcp"];
    assert_eq!(ask(MENDED, &itself)["decided_by"]["name"], "baseline/loopback");
}
