//! What must hold between hosts, and by whom packets go.

use super::world::Office;
use crate::harness::Desk;
use serde_json::{Value, json};

const FLEET: &str = include_str!("../../../../../demo/fleet.toml");

#[test]
fn what_must_hold_is_proven_or_shown_not_to() {
    let desk = Desk::with(FLEET);
    let mut all = desk.run(["fleet", "expectations"]).exits(0).stdout;
    // Without the place, sluice's outside address is meant too.
    desk.write(FLEET.replacen("within = [\"stacks\"]\n", "", 1));
    all.push_str(&desk.run(["fleet", "expectations"]).exits(1).stdout);
    // Nobody knows of a host whose addresses are not listed.
    desk.write(format!("{FLEET}\n[host.roamer]\n"));
    let found = desk.run(["fleet", "expectations", "--format", "json"]).exits(1).json();
    let holds: Vec<&Value> =
        found["expectations"].as_array().expect("a list").iter().map(|it| &it["holds"]).collect();
    assert_eq!(holds, [&json!("unknown"), &json!("unknown"), &json!("yes")]);
    assert_eq!(found["expectations"][0]["unknown"], json!(["roamer"]));
    // Addresses of different versions: that nothing can go is not that all arrives.
    desk.write(
        FLEET
            .replace("addresses = [\"10.44.8.20\", \"fd44:8::20\"]", "addresses = [\"fd44:8::20\"]")
            .replace(
                "addresses = [\"10.44.8.30\", \"fd44:8::30\", \"10.99.0.30\", \"fd99::30\"]",
                "addresses = [\"10.44.8.30\"]",
            ),
    );
    all.push_str(&desk.run(["fleet", "expectations"]).exits(1).stdout);
    insta::assert_snapshot!(all);
    desk.write(FLEET.replace("[[fleet.expect]]", "[[fleet.expects]]"));
    desk.run(["fleet", "expectations"]).exits(2);
}

#[test]
fn what_breaks_a_promise_between_hosts_is_not_sealed() {
    let office = Office::new(FLEET);
    office.fleet(&["seal", "--key", "key"]).exits(0);
    let open = FLEET.replace(
        "allow = [\"5432/tcp\"]\nfrom = [\"10.44.8.10\", \"fd44:8::10\"]",
        "allow = [\"5432/tcp\"]\nfrom = [\"stacks\"]",
    );
    assert_ne!(open, FLEET);
    office.desk.write(open);
    let refused = office.fleet(&["seal", "--key", "key"]).exits(1).stderr;
    assert!(refused.contains("from bench to granary"), "{refused}");
    assert!(!office.bundle(2).exists());
    let sealed = office
        .fleet(&["seal", "--key", "key", "--even-if-unproven", "--format", "json"])
        .exits(0)
        .json();
    assert!(sealed["remarks"][0].as_str().expect("said").contains("does not hold"), "{sealed}");
    assert!(office.bundle(2).exists());
}

/// Who travels goes through the edge, who is at home does not; by hand, whoever is named stands between.
#[test]
fn packets_go_by_the_routes_of_the_policy() {
    let desk = Desk::with(FLEET);
    let mut all = String::new();
    for words in [
        &["granary", "bench", "22000/tcp"][..],
        &["bench", "granary", "22000/tcp", "--within", "tunnel", "stacks"],
        &["bench", "granary", "22000/tcp", "--within", "tunnel"],
        &["bench", "sluice", "9100/tcp"],
        &["granary", "bench", "9100/tcp", "--through", "sluice"],
    ] {
        let outcome = desk.run([&["fleet", "reach"], words].concat());
        assert!(outcome.code <= 1, "{outcome:?}");
        all.push_str(&format!("\n# {}: {}\n{}", words.join(" "), outcome.code, outcome.stdout));
    }
    all.push_str(&desk.run(["fleet", "matrix", "22000/tcp"]).exits(0).stdout);
    all.push_str(&desk.run(["fleet", "matrix", "9100/tcp", "--within", "stacks"]).exits(0).stdout);
    insta::assert_snapshot!(all);
    desk.run(["fleet", "matrix", "9100/tcp", "--within", "nowhere"]).exits(2);
}
