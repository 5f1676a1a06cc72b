//! How a change is to be made, and what it did.

use crate::StaysOpen;
use crate::cut;
use crate::effect::Effects;
use crate::enforce::Report as Enforced;
use crate::store::{Home, InPosture};
use crate::vocabulary as say;
use serde::Serialize;
use std::time::Duration;
use tipstaff_linux::Machine;

/// Who is told what will change.
pub type Tell<'t> = dyn Fn(&Effects) + Sync + 't;

/// How a change is to be made.
#[derive(Clone, Copy)]
pub struct Options<'o> {
    /// The machine that is changed.
    pub machine: &'o dyn Machine,
    /// Where the docket is.
    pub home: &'o Home,
    /// Whether it stays without being confirmed.
    pub keep: bool,
    /// How long it waits to be confirmed.
    pub within: Duration,
    /// Whether nothing is to be changed.
    pub dry: bool,
    /// Whether rules for programs are left out.
    pub without_programs: bool,
    /// Whether it is made even if the session could not be opened again.
    pub even_if_locked_out: bool,
    /// Whether it is made even if the policy is another machine's.
    pub not_this_machine: bool,
    /// Whether all changes are worked out, however many there are.
    pub all: bool,
    /// For how long all decisions are to be reported, whatever the policy has reported; `None`: as before.
    pub log_for: Option<Duration>,
    /// The posture that is taken, as it is to be written down; `None`: it goes on as it is.
    pub posture: Option<&'o InPosture>,
    /// How much memory a boot may need to load it, in MiB.
    pub boot_memory: u64,
    /// Told what will change, before anything does.
    pub tell: Option<&'o Tell<'o>>,
}

/// What a change did, or would do.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// What was done: `enforced`, `unchanged`, `would-enforce`, `released`, `nothing-to-release`.
    pub done: say::Changed,
    /// The posture that it is in; `null`: in none.
    pub posture: Option<String>,
    /// The entry of the docket; `null` if nothing was done.
    pub entry: Option<u64>,
    /// In how many seconds it goes by itself, unless it is confirmed; `null` if it stays.
    pub confirm_within: Option<u64>,
    /// The rules that are in force now.
    #[serde(flatten)]
    pub enforced: Option<Enforced>,
    /// What it changes for packets, against what the kernel enforced before; empty if nothing was
    /// in force.
    #[serde(flatten)]
    pub effects: Effects,
    /// What stays open, where nothing was in force before and so everything passed; else empty.
    pub stays_open: Vec<StaysOpen>,
    /// How many connections live on that began before and that the policy would not admit;
    /// `null` if that is not known.
    pub living_on: Option<usize>,
    /// Those that were ended.
    pub living: Option<cut::Report>,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
    /// Whether what changes has been told beforehand.
    #[serde(skip)]
    pub told: bool,
}

impl Report {
    /// Nothing else is to be said yet.
    pub(super) fn did(done: say::Changed) -> Self {
        Self {
            done,
            posture: None,
            entry: None,
            confirm_within: None,
            enforced: None,
            effects: Effects { changes_known: true, ..Effects::default() },
            stays_open: Vec::new(),
            living_on: None,
            living: None,
            remarks: Vec::new(),
            told: false,
        }
    }
}
