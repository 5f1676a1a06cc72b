//! `show`.

use crate::harness::{Desk, MENDED};

#[test]
fn the_decision_list_has_baseline_rules_and_default_in_order() {
    let outcome = Desk::with(MENDED).run(["show", "--host", "sluice"]).exits(0);
    insta::assert_snapshot!(outcome.stdout);
}

#[test]
fn narrow_screens_lose_nothing() {
    let desk = Desk::with(MENDED);
    let mut command = desk.command(["show", "--host", "sluice"]);
    command.env("COLUMNS", "60");
    let outcome = crate::harness::finish(command).exits(0);
    assert!(outcome.stdout.lines().all(|line| line.chars().count() <= 60), "{}", outcome.stdout);
    for word in ["catalogue", "443/tcp+udp", "baseline/false-loopback", "policy.toml:"] {
        assert!(outcome.stdout.contains(word), "{word} is gone:\n{}", outcome.stdout);
    }
}

#[test]
fn programs_get_stable_keys() {
    let json =
        Desk::with(MENDED).run(["--format", "json", "show", "--host", "sluice"]).exits(0).json();
    let decisions = json["directions"][0]["decisions"].as_array().expect("a list");
    let nuisance = decisions.iter().find(|it| it["name"] == "nuisance").expect("there");
    insta::assert_json_snapshot!(nuisance, @r#"
    {
      "kind": "rule",
      "name": "nuisance",
      "traffic": "any",
      "from": "nuisance",
      "to": "anywhere",
      "verdict": "deny",
      "rate": null,
      "paused": false,
      "ended": false,
      "until": null,
      "log": null,
      "why": "Ahead of everything that it could slip through",
      "origin": {
        "file": "policy.toml",
        "line": 33
      }
    }
    "#);
    assert_eq!(json["directions"][2]["direction"], "forwarded");
}

#[test]
fn a_paused_rule_is_shown_and_decides_nothing() {
    let paused = MENDED.replace("name = \"nuisance\"\n", "name = \"nuisance\"\npaused = true\n");
    let desk = Desk::with(paused);
    let shown = desk.run(["show", "--host", "sluice"]).exits(0).stdout;
    assert!(shown.contains("paused (deny)"), "{shown}");
    let asked = ["ask", "--host", "sluice", "--from", "203.0.113.66", "--traffic", "443/tcp"];
    let answer = desk.run(asked).exits(0).stdout;
    assert!(answer.contains("allow  by catalogue"), "{answer}");
    assert!(answer.contains("paused"), "{answer}");
}

#[test]
fn programs_times_and_logs_are_shown_and_asked_about() {
    let with = |keys: &str| {
        let rule = format!("name = \"catalogue\"\n{keys}");
        Desk::with(MENDED.replace("name = \"catalogue\"", &rule))
    };
    let show = |desk: &Desk| desk.run(["show", "--host", "sluice"]).exits(0).stdout;
    let asked = |desk: &Desk, more: &[&str]| {
        let args = ["ask", "--host", "sluice", "--from", "203.0.113.9", "--traffic", "443/tcp"];
        desk.run(args.iter().chain(more)).exits(0).stdout
    };
    let desk = with("program = \"/usr/sbin/catalogued\"\nlog = \"10/minute\"");
    let text = show(&desk);
    assert!(text.contains("/usr/sbin/catalogued"), "{text}");
    assert!(text.contains("logged 10/minute"), "{text}");
    let answer = asked(&desk, &["--program", "/usr/sbin/catalogued"]);
    assert!(answer.contains("allow  by catalogue"), "{answer}");
    let answer = asked(&desk, &["--program", "/usr/bin/other"]);
    assert!(answer.contains("deny") && answer.contains("other program"), "{answer}");

    let desk = with("until = 2001-02-03T04:05:06Z");
    assert!(show(&desk).contains("ended (allow)"));
    assert!(asked(&desk, &[]).contains("ended"));
    let desk = with("until = \"2500-02-03T04:05:06+01:00\"");
    assert!(show(&desk).contains("2500-02-03T03:05:06Z"));
    assert!(asked(&desk, &[]).contains("allow  by catalogue"));
}
