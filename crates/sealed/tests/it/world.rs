//! A fleet, who may seal for it, and a policy.

use std::collections::BTreeMap;
use tipstaff_core::policy::Time;
use tipstaff_sealed::{Signers, SigningWith, Statement, seal};

/// An Ed25519 key made for these tests, and nothing else.
pub const KEY: &str = include_str!("keys/duty");
/// The public part.
pub const PUBLIC: &str = include_str!("keys/duty.pub");
/// Somebody else's.
pub const OTHER: &str = include_str!("keys/visitor");
pub const OTHER_PUBLIC: &str = include_str!("keys/visitor.pub");
/// One of the sort ecdsa-sha2-nistp256.
pub const CURVE: &str = include_str!("keys/curve");
pub const CURVE_PUBLIC: &str = include_str!("keys/curve.pub");

pub const FLEET: &str = "tidewater";

pub fn now() -> Time {
    Time::parse("2026-12-01T09:00:00Z").expect("a time")
}

pub fn key(text: &str) -> SigningWith<'static> {
    SigningWith::key(text).expect("a key")
}

/// A list in which only the duty administrator is.
pub fn signers() -> Signers {
    Signers::read(&format!("duty {PUBLIC}")).expect("a list")
}

pub fn files() -> BTreeMap<String, Vec<u8>> {
    let policy = include_bytes!("../../../../demo/mended.toml").to_vec();
    [
        ("mended.toml".to_owned(), policy),
        ("places/nuisance.snapshot".to_owned(), b"203.0.113.9\n".to_vec()),
    ]
    .into()
}

pub fn statement(sequence: u64) -> Statement {
    let hosts = ["sluice", "granary", "bench"].map(str::to_owned).to_vec();
    Statement::new(FLEET, sequence, now(), hosts)
}

/// A sealed bundle of that number, by the duty administrator.
pub fn sealed(sequence: u64) -> Vec<u8> {
    seal(&statement(sequence), &files(), &key(KEY)).expect("sealed")
}
