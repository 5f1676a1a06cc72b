//! `docket`: what was enforced on this host.

use super::{Failure, Loaded, transaction};
use crate::store::{Docket, Entry, Guarded};
use serde::Serialize;
use std::path::Path;

/// All entries.
#[derive(Debug, Serialize)]
pub struct List {
    /// The folder of the docket.
    pub state: String,
    /// The entries, oldest first.
    pub entries: Vec<Entry>,
    /// The entry that waits to be confirmed.
    pub pending: Option<u64>,
}

/// One entry.
#[derive(Debug, Serialize)]
pub struct Shown {
    /// The entry.
    pub entry: Entry,
    /// The policy as it was; `null` if there was none.
    pub policy: Option<Guarded>,
}

/// Lists the docket.
///
/// # Errors
/// [`Failure`] if it cannot be read.
pub fn list(state: &Path) -> Result<List, Failure> {
    let entries = Docket::look(state)?;
    let pending = Docket::pending(state).map(|pending| pending.id);
    Ok(List { state: state.display().to_string(), entries, pending })
}

fn find(state: &Path, id: u64) -> Result<Entry, Failure> {
    let found = Docket::look(state)?.into_iter().find(|entry| entry.id == id);
    found.ok_or_else(|| {
        Failure::usage(format!("the docket has no entry {id}"), "`tipstaff docket` lists them")
    })
}

/// Shows an entry.
///
/// # Errors
/// [`Failure`] if there is none of that number, or its policy is not what it was.
pub fn show(state: &Path, id: u64) -> Result<Shown, Failure> {
    let entry = find(state, id)?;
    let policy = entry.policy.as_ref().map(|_| Docket::policy(state, &entry)).transpose()?;
    Ok(Shown { entry, policy })
}

/// The policy of an entry, worked out.
///
/// # Errors
/// As for [`show`].
pub fn policy(state: &Path, id: u64) -> Result<Loaded, Failure> {
    transaction::recorded(state, &find(state, id)?)
}
