//! The list of who may sign.

use crate::world::{FLEET, KEY, PUBLIC, key, now, sealed};
use tipstaff_core::policy::Time;
use tipstaff_sealed::{Refusal, Signers, Unsealed};

/// What becomes of a bundle where that line is the list.
fn with(line: &str) -> Result<String, Refusal> {
    let signers = Signers::read(line).expect("a list");
    Unsealed::read(&sealed(7)).and_then(|it| it.open(&signers, FLEET, now())).map(|it| it.signer)
}

fn time(text: &str) -> Time {
    Time::parse(text).expect("a time")
}

#[test]
fn lines_say_who_may_sign_what_and_when() {
    let key = PUBLIC.trim();
    for line in [
        format!("duty {key}"),
        format!("# curators\n\nduty {key}\n"),
        format!("duty namespaces=\"file,tipstaff-bundle\" {key}"),
        format!("duty valid-after=\"20260101Z\",valid-before=\"202612010901Z\" {key}"),
        format!("\"duty\" namespaces=\"tipstaff-bundle\",valid-after=\"20261201090000Z\" {key}"),
    ] {
        assert_eq!(with(&line).as_deref(), Ok("duty"), "{line}");
    }
    let other = Refusal::ForSomethingElse("file,git".into());
    assert_eq!(with(&format!("duty namespaces=\"file,git\" {key}")), Err(other));
    let late = Refusal::NotYet(time("2027-01-01T00:00:00Z"));
    assert_eq!(with(&format!("duty valid-after=\"20270101Z\" {key}")), Err(late));
    let over = Refusal::NoMore(time("2026-12-01T09:00:00Z"));
    assert_eq!(with(&format!("duty valid-before=\"202612010900Z\" {key}")), Err(over));
}

#[test]
fn of_several_lines_with_a_key_one_must_do() {
    let key = PUBLIC.trim();
    let list = format!("past valid-before=\"20200101Z\" {key}\nduty {key}\n");
    assert_eq!(with(&list).as_deref(), Ok("duty"));
}

#[test]
fn an_empty_list_lets_nobody_sign() {
    assert_eq!(with("# nobody\n"), Err(Refusal::NobodyOurs(key(KEY).fingerprint())));
}

#[test]
fn a_line_that_is_not_understood_lets_nobody_sign() {
    let key = PUBLIC.trim();
    let mut told = String::new();
    for line in [
        "duty",
        "duty ssh-ed25519",
        "duty ssh-ed25519 AAAA",
        &format!("duty cert-authority {key}"),
        &format!("duty touch=\"no\" {key}"),
        &format!("duty valid-before=\"20270101\" {key}"),
        &format!("duty valid-before=\"20271301Z\" {key}"),
        &format!("duty namespaces=\"file {key}"),
    ] {
        let mistake = Signers::read(&format!("duty {key}\n{line}\n")).expect_err(line);
        told.push_str(&format!("{mistake}\n"));
    }
    insta::assert_snapshot!(told);
}
