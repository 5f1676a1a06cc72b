//! A recorded machine, and desks with policies.

use serde_json::Value;
use std::path::PathBuf;
use tempfile::TempDir;
use tipstaff_app::store::Home;
use tipstaff_app::{Loaded, loaded};
use tipstaff_core::policy::Source;
use tipstaff_linux::{Machine, Recorded};

pub const INHERITED: &str = include_str!("../../../../demo/inherited.toml");
/// The policy that was in force on the machine when it was recorded.
pub const MENDED: &str = include_str!("../machines/sluice.toml");

/// What sluice answered while the mended policy was in force there.
pub fn answers() -> Value {
    serde_json::from_str(include_str!("../machines/sluice.json")).expect("JSON")
}

/// The machine that gives these answers.
pub fn machine(answers: Value) -> Recorded {
    serde_json::from_value(answers).expect("a machine")
}

pub fn sluice() -> Recorded {
    machine(answers())
}

/// A policy for sluice, as it is on that machine.
pub fn policy(machine: &dyn Machine, text: &str) -> Loaded {
    let source = Source::new("policy.toml", text);
    let mut policy = loaded("policy.toml", vec![source], Some("sluice")).expect("a policy");
    policy.place(machine).expect("its links are known");
    policy
}

/// A docket of its own.
pub struct Desk {
    _folder: TempDir,
    pub home: Home,
}

impl Desk {
    pub fn new() -> Self {
        let folder = tempfile::tempdir().expect("a folder");
        let state: PathBuf = folder.path().join("state");
        let home = Home::of(&state, &folder.path().join("boot-note.json"));
        Self { _folder: folder, home }
    }
}

/// The policy that a text is.
pub fn read_policy(text: &str) -> tipstaff_core::policy::Policy {
    match tipstaff_core::policy::read(&Source::new("policy.toml", text)) {
        Ok(policy) => policy,
        Err(problems) => panic!("{text}\n{problems:?}"),
    }
}
