//! Whole plans: written down, and taken as policies that mean just that.

use crate::harness::{Desk, MENDED};
use serde_json::Value;
use std::fs;
use tipstaff_core::generate::{Generator, HOST_NAME};
use tipstaff_core::space::{AddressSet, Block, RangeSet};

fn plan_of(desk: &Desk, host: &str) -> Value {
    desk.run(["--host", host, "export", "--to", "json"]).exits(0).json()
}

/// What of it decides: without where it is written, and when it was worked out.
fn meaning(mut plan: Value) -> Value {
    plan["at"] = Value::Null;
    plan["posture"] = Value::Null;
    for chain in plan["directions"].as_array_mut().expect("a list") {
        let decisions = chain["decisions"].as_array_mut().expect("a list");
        decisions.retain(|it| it["conditions"] != Value::Array(Vec::new()));
        for decision in decisions {
            let ours = decision["name"].as_str().is_some_and(|it| it.contains('/'));
            let told: &[&str] =
                if ours { &["origin", "written", "why"] } else { &["origin", "written"] };
            told.iter().for_each(|it| decision[it] = Value::Null);
            for condition in decision["conditions"].as_array_mut().expect("a list") {
                tidied(condition);
            }
        }
    }
    plan
}

#[test]
fn a_plan_goes_out_and_in_again() {
    let desk = Desk::with(MENDED);
    let out = desk.run(["--host", "sluice", "export", "--to", "json"]).exits(0);
    assert_eq!(out.stderr, "");
    insta::assert_snapshot!(out.stdout.replace(&out.json()["at"].to_string(), "\"(now)\""));
    let file = desk.path().join("plan.json");
    fs::write(&file, &out.stdout).expect("written");
    let file = file.display().to_string();
    let policy = desk.run(["adopt", "--from", "json", &file]).exits(0);
    assert_eq!(policy.stderr, "");
    insta::assert_snapshot!(policy.stdout);
    let same = desk.run(["--host", "sluice", "--format", "json", "compare", &file]).exits(0).json();
    assert_eq!(same["first"], format!("the plan of sluice in {file}"));
    let back = Desk::with(&policy.stdout);
    assert_eq!(meaning(plan_of(&back, "sluice")), meaning(out.json()));
    // Another policy fares otherwise.
    desk.run(["--host", "granary", "compare", &file]).exits(1);
}

#[test]
fn a_posture_comes_along_as_what_holds_always() {
    let policy = "edition = 1\n[host.bench]\n[host.bench.posture.sealed]\n\
                  [host.bench.posture.sealed.default]\noutbound = \"deny\"\n";
    let desk = Desk::with(policy);
    let plan = desk.run(["export", "--to", "json", "--posture", "sealed"]).exits(0);
    assert_eq!(plan.json()["posture"], "sealed");
    let file = desk.path().join("plan.json");
    fs::write(&file, &plan.stdout).expect("written");
    let taken = desk.run(["adopt", "--from", "json", &file.display().to_string()]).exits(0);
    assert!(taken.stderr.contains("is that of posture sealed"), "{}", taken.stderr);
    assert!(taken.stdout.contains("outbound = \"deny\""), "{}", taken.stdout);
}

/// Networks and ranges in one way of many.
fn tidied(condition: &mut Value) {
    for key in ["from", "to"] {
        if let Some(list) = condition[key].as_array() {
            let words =
                list.iter().filter_map(Value::as_str).filter_map(|it| Block::parse(it).ok());
            let all: AddressSet = words.map(|it| it.addresses()).collect();
            let blocks = all.blocks();
            condition[key] = blocks.iter().map(|it| Value::from(it.to_string())).collect();
            if all.is_full() {
                condition[key] = Value::Null;
            }
        }
    }
    let ranges = |value: &mut Value| {
        if let Some(list) = value.as_array() {
            let number = |it: &Value| u16::try_from(it.as_u64().expect("a number")).expect("small");
            let pairs = list.iter().map(|it| (number(&it[0]), number(&it[1])));
            let all = RangeSet::from_ranges(pairs);
            *value = all.ranges().iter().map(|it| Value::from(vec![it.0, it.1])).collect();
        }
    };
    ranges(&mut condition["source_ports"]);
    ranges(&mut condition["published"]);
    if let Some(traffic) = condition["traffic"].as_object_mut() {
        traffic.values_mut().for_each(ranges);
    }
}

/// Every value in it that is no list or table, by the way to it.
fn leaves(value: &Value, at: &str, found: &mut Vec<String>) {
    match value {
        Value::Array(list) => {
            for (number, it) in list.iter().enumerate() {
                leaves(it, &format!("{at}/{number}"), found);
            }
        }
        Value::Object(map) => {
            for (key, it) in map {
                leaves(it, &format!("{at}/{}", key.replace('~', "~0").replace('/', "~1")), found);
            }
        }
        _ => found.push(at.to_owned()),
    }
}

#[test]
fn what_was_changed_is_said_or_refused() {
    let policies = if std::env::var_os("TIPSTAFF_LONG").is_some() { 40 } else { 4 };
    let (mut said, mut refused) = (0, 0);
    for seed in 0..policies {
        let mut dice = Generator::new(seed);
        let desk = Desk::with(dice.policy());
        let whole = plan_of(&desk, HOST_NAME);
        let mut places = Vec::new();
        leaves(&whole, "", &mut places);
        places.retain(|it| {
            !["/origin/", "/written/", "/form", "/at"].iter().any(|but| it.contains(but))
        });
        for _ in 0..25 {
            let mut changed = whole.clone();
            let place = &places[dice.below(places.len())];
            let value = changed.pointer_mut(place).expect("it is there");
            *value = match (&*value, dice.below(5)) {
                (_, 0) => Value::Null,
                (Value::Number(_), of) => [0, 1, 255, 65_535][of - 1].into(),
                (Value::String(_), 1) => "deny".into(),
                (Value::String(_), 2) => "allow".into(),
                (Value::String(_), 3) => "203.0.113.0/24".into(),
                (Value::Bool(is), _) => (!is).into(),
                _ => "\u{1b}[31m".into(),
            };
            let file = desk.path().join("changed.json");
            fs::write(&file, changed.to_string()).expect("written");
            let told = desk.run(["adopt", "--from", "json", &file.display().to_string()]);
            assert!(!told.stdout.contains('\u{1b}') && !told.stderr.contains('\u{1b}'));
            if told.code == 2 {
                assert!(told.stdout.is_empty() && told.stderr.contains("changed.json"));
                refused += 1;
                continue;
            }
            let told = told.exits(0);
            said += 1;
            let back = Desk::with(&told.stdout);
            let again = meaning(plan_of(&back, HOST_NAME));
            // What is left out, and `null`, are the same.
            let (again, meant) = (without_nulls(again), without_nulls(meaning(changed)));
            assert_eq!(again, meant, "seed {seed}, {place}");
        }
    }
    println!("{said} said, {refused} refused");
    assert!(said * 10 > policies * 25 && refused * 10 > policies * 25, "{said}, {refused}");
}

fn without_nulls(value: Value) -> Value {
    match value {
        Value::Object(map) => {
            let kept = map.into_iter().filter(|it| !it.1.is_null());
            Value::Object(kept.map(|(key, it)| (key, without_nulls(it))).collect())
        }
        Value::Array(list) => Value::Array(list.into_iter().map(without_nulls).collect()),
        other => other,
    }
}

#[test]
fn what_is_no_plan_is_refused() {
    let desk = Desk::with(MENDED);
    let file = desk.path().join("plan.json");
    let adopt = |bytes: &[u8]| {
        fs::write(&file, bytes).expect("written");
        desk.run(["adopt", "--from", "json", &file.display().to_string()])
    };
    for bytes in [&b""[..], b"{", b"[]", b"{}", b"\xff\xfe", b"null", b"edition = 1\n"] {
        let told = adopt(bytes).exits(2);
        assert!(told.stdout.is_empty() && told.stderr.contains("plan.json"), "{}", told.stderr);
    }
    let whole = plan_of(&desk, "sluice");
    let later = whole.to_string().replace("tipstaff-plan/1", "tipstaff-plan/2");
    let told = adopt(later.as_bytes()).exits(2);
    assert!(told.stderr.contains("`tipstaff-plan/2`, where this version reads"), "{}", told.stderr);
    let more = whole.to_string().replacen("\"host\"", "\"ghost\": 1, \"host\"", 1);
    let told = adopt(more.as_bytes()).exits(2);
    assert!(told.stderr.contains("unknown field `ghost`"), "{}", told.stderr);
    let nets = whole.to_string().replacen("203.0.113.", "203.0.1130.", 1);
    let told = adopt(nets.as_bytes()).exits(2);
    assert!(told.stderr.contains("is no network"), "{}", told.stderr);
}
