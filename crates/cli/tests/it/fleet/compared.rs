//! What changes host by host, those that fare alike together.

use super::world::Office;
use crate::harness::{INHERITED, MENDED};
use serde_json::json;

/// Shelves with a label, and one apart.
fn shelves(from: &str) -> String {
    let mut text = format!(
        "edition = 1\n[label.shelf]\n[[label.shelf.rule]]\nname = \"metrics\"\nallow = [\"9100/tcp\"]\nfrom = [{from}]\n"
    );
    for number in 1..=40 {
        text.push_str(&format!(
            "[host.shelf-{number:04}]\nlabels = [\"shelf\"]\naddresses = [\"10.44.8.{}\"]\n",
            100 + number
        ));
    }
    text.push_str("[host.sluice]\naddresses = [\"10.44.8.10\"]\n");
    text
}

#[test]
fn hosts_that_fare_alike_are_told_of_together() {
    let office = Office::new(&shelves("\"10.44.8.10\""));
    office.fleet(&["seal", "--key", "key"]).exits(0);
    let more = shelves("\"10.44.8.10\", \"10.44.8.20\"");
    // One of them has a rule of its own besides.
    let more = format!(
        "{more}[[host.shelf-0007.rule]]\nname = \"own\"\nallow = [\"80/tcp\"]\n[host.bench]\naddresses = [\"10.44.8.30\"]\n"
    );
    office.desk.write(more);
    let found = office.fleet(&["compare", "1", "--format", "json"]).exits(1).json();
    let hosts: Vec<usize> = found["changed"]
        .as_array()
        .expect("a list")
        .iter()
        .map(|it| it["hosts"].as_array().map_or(0, Vec::len))
        .collect();
    assert_eq!(hosts, [39, 1], "{found}");
    assert_eq!(found["changed"][1]["hosts"], json!(["shelf-0007"]));
    assert_eq!((&found["same"], &found["came"]), (&json!(["sluice"]), &json!(["bench"])));
    let told = office.fleet(&["compare", "newest"]).exits(1).stdout;
    let told = told.replace(&digest_of(&told), "[digest]");
    insta::assert_snapshot!(told);
    office.fleet(&["compare", "policy.toml", "policy.toml"]).exits(0);
    assert!(office.fleet(&["compare", "9"]).exits(2).stderr.contains("there is no sealed bundle"));
}

/// The digits by which a sealed bundle is named: its time is in them.
fn digest_of(told: &str) -> String {
    told.split("sha256 ").nth(1).and_then(|it| it.get(..12)).expect("a digest").to_owned()
}

/// Each host's changes are those that comparing its two policies tells of.
#[test]
fn what_is_told_of_many_is_so_of_each() {
    let office = Office::new(INHERITED);
    office.fleet(&["seal", "--key", "key"]).exits(0);
    std::fs::write(office.path("before.toml"), INHERITED).expect("written");
    office.desk.write(MENDED);
    let found = office.fleet(&["compare", "1", "--all", "--format", "json"]).exits(1).json();
    let mut told = 0;
    for alike in found["changed"].as_array().expect("a list") {
        for host in alike["hosts"].as_array().expect("hosts") {
            let host = host.as_str().expect("a name");
            let before = format!("before.toml@{host}");
            let one = ["--host", host, "compare", &before, "--format", "json"];
            let one = office.desk.run(one).exits(1).json();
            let without = |list: &serde_json::Value| -> Vec<serde_json::Value> {
                let mut list = list.as_array().expect("changes").clone();
                for change in &mut list {
                    for side in ["before", "after"] {
                        change[side]["by"]["origin"] = serde_json::Value::Null;
                    }
                }
                list
            };
            assert_eq!(without(&alike["changes"]), without(&one["changes"]), "{host}");
            told += 1;
        }
    }
    assert_eq!(told, 3);
}
