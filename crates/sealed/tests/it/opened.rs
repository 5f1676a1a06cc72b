//! What is accepted, and what of it is found again.

use crate::world::{
    CURVE, CURVE_PUBLIC, FLEET, KEY, PUBLIC, files, key, now, sealed, signers, statement,
};
use std::collections::BTreeMap;
use tipstaff_core::policy::Time;
use tipstaff_sealed::{
    Content, Counts, Refusal, Signers, SigningWith, Statement, Unsealed, digest, seal,
};

#[test]
fn what_was_sealed_is_found_again() {
    let bytes = sealed(7);
    let read = Unsealed::read(&bytes).expect("a sealed bundle");
    let content = Content { statement: statement(7), policy: files() };
    assert_eq!(read.content(), Ok(content));
    let opened = read.open(&signers(), FLEET, now()).expect("accepted");
    assert_eq!((opened.statement, opened.policy), (statement(7), files()));
    assert_eq!(opened.signer, "duty");
    assert_eq!(opened.key, key(KEY).fingerprint());
}

#[test]
fn the_same_is_the_same_to_the_byte() {
    // The form is a promise to whoever kept one: a later version must still read and write it.
    insta::assert_snapshot!(digest(&sealed(7)));
    assert_eq!(sealed(7), sealed(7));
    let statement = String::from_utf8(statement(7).bytes()).expect("text");
    insta::assert_snapshot!(statement);
}

#[test]
fn every_part_of_a_statement_is_kept() {
    let mut full = statement(u64::MAX);
    full.expires = Some("2027-12-01T09:00:00Z".into());
    full.revision = Some("0123456789abcdef".into());
    full.after = Some(digest(b"before"));
    let hosts = vec!["sluice".to_owned()];
    full.changes = Some(vec![Counts { hosts, opens: 1, closes: 2, others: 3 }]);
    assert_eq!(Statement::read(&full.bytes()), Ok(full.clone()));
    let bytes = seal(&full, &BTreeMap::new(), &key(KEY)).expect("sealed");
    let opened = Unsealed::read(&bytes).and_then(|it| it.open(&signers(), FLEET, now()));
    assert_eq!(opened.map(|it| it.statement), Ok(full));
}

#[test]
fn keys_of_other_sorts_sign_too() {
    let bytes = seal(&statement(1), &files(), &key(CURVE)).expect("sealed");
    let list = Signers::read(&format!("duty {CURVE_PUBLIC}")).expect("a list");
    let opened = Unsealed::read(&bytes).and_then(|it| it.open(&list, FLEET, now()));
    assert_eq!(opened.map(|it| it.signer).as_deref(), Ok("duty"));
}

#[test]
fn who_was_asked_to_sign_must_have_done_so() {
    let asked =
        |made: &'static [u8]| SigningWith::asking(PUBLIC, |_| Ok(made.to_vec())).expect("a key");
    let mut signature = Vec::new();
    for part in [&b"ssh-ed25519"[..], &[7; 64]] {
        signature.extend(u32::try_from(part.len()).expect("short").to_be_bytes());
        signature.extend(part);
    }
    let other = seal(&statement(1), &files(), &asked(signature.leak()));
    assert_eq!(other, Err("the signature that was made is not one of this key".into()));
    assert!(seal(&statement(1), &files(), &asked(b"no")).is_err());
    let refuses = SigningWith::asking(PUBLIC, |_| Err("not now".into())).expect("a key");
    assert_eq!(seal(&statement(1), &files(), &refuses), Err("not now".into()));
}

#[test]
fn what_holds_for_a_time_only_is_refused_then() {
    let mut short = statement(1);
    short.expires = Some("2026-12-24T18:00:00Z".into());
    let bytes = seal(&short, &files(), &key(KEY)).expect("sealed");
    let at = |time: &str| {
        let now = Time::parse(time).expect("a time");
        Unsealed::read(&bytes).and_then(|it| it.open(&signers(), FLEET, now)).map(|_| ())
    };
    let until = Time::parse("2026-12-24T18:00:00Z").expect("a time");
    assert_eq!(at("2026-12-24T17:59:59Z"), Ok(()));
    assert_eq!(at("2026-12-24T18:00:00Z"), Err(Refusal::Expired(until)));
}

#[test]
fn what_is_older_than_what_was_seen_is_refused() {
    let bytes = sealed(7);
    let opened = Unsealed::read(&bytes).and_then(|it| it.open(&signers(), FLEET, now()));
    let opened = opened.expect("accepted");
    let its = digest(&bytes);
    let other = digest(b"another");
    assert_eq!(opened.follows(&its, None), Ok(()));
    assert_eq!(opened.follows(&its, Some((6, &other))), Ok(()));
    assert_eq!(opened.follows(&its, Some((7, &its))), Ok(()));
    let twice = Refusal::Twice { sequence: 7, seen: other.clone() };
    assert_eq!(opened.follows(&its, Some((7, &other))), Err(twice));
    assert_eq!(opened.follows(&its, Some((8, &its))), Err(Refusal::Older { its: 7, seen: 8 }));
}

#[test]
fn names_that_lead_elsewhere_cannot_be_sealed() {
    let long = "x".repeat(99);
    for name in ["../a.toml", "/a.toml", "a//b", ".", "", "a\nb", long.as_str()] {
        let files = [(name.to_owned(), Vec::new())].into();
        let made = seal(&statement(1), &files, &key(KEY));
        assert!(made.is_err_and(|it| it.contains("cannot be called")), "{name:?}");
    }
}
