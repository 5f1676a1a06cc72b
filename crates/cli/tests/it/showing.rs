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
      "why": "Ahead of everything that it could slip through",
      "origin": "policy.toml:33"
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
