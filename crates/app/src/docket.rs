//! `docket`: what was enforced on this host.

use super::{Failure, Loaded, transaction};
use crate::Outcome;
use crate::store::{
    Docket, Entry, Guarded, Home, Lost, Note, State, damage, kept_policy, pending, set_pending,
    undo,
};
use serde::Serialize;
use std::collections::BTreeSet;
use std::path::Path;
use tipstaff_linux::Machine;

/// All that the docket holds, newest first.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct List {
    /// The folder of the docket.
    pub state: String,
    /// The network namespace whose docket it is, in words.
    pub namespace: String,
    /// The entries, oldest first.
    pub entries: Vec<Entry>,
    /// The entry that waits to be confirmed.
    pub pending: Option<u64>,
    /// Lines that cannot be read.
    pub lost: Vec<Lost>,
}

/// An entry, and what has become of it.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Shown {
    /// The entry as it was written down.
    pub entry: Entry,
    /// The policy as it was; `null` if there was none.
    pub policy: Option<Guarded>,
}

/// What was saved of a docket.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Mended {
    /// The folder of the docket.
    pub state: String,
    /// How many entries it has.
    pub entries: usize,
    /// Lines that could not be read, and are gone.
    pub lost: Vec<Lost>,
    /// What else was found, as whole sentences.
    pub found: Vec<String>,
}

impl Mended {
    /// Whether the docket is whole, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.lost.is_empty() && self.found.is_empty() { Outcome::Fine } else { Outcome::Found }
    }
}

/// Lists the docket.
///
/// # Errors
/// [`Failure`] if it cannot be read.
pub fn list(home: &Home) -> Result<List, Failure> {
    let written = Docket::look(home)?;
    Ok(List {
        state: home.folder.display().to_string(),
        namespace: home.place.words(),
        entries: written.entries,
        pending: pending(home).ok().flatten().map(|pending| pending.id),
        lost: written.lost,
    })
}

fn find(home: &Home, id: u64) -> Result<Entry, Failure> {
    Docket::look(home)?.entry(id).cloned().ok_or_else(|| {
        Failure::usage(format!("the docket has no entry {id}"), "`tipstaff docket` lists them")
    })
}

/// Shows an entry.
///
/// # Errors
/// [`Failure`] if there is none of that number, or its policy is not what it was.
pub fn show(home: &Home, id: u64) -> Result<Shown, Failure> {
    let entry = find(home, id)?;
    let policy = entry.policy.as_ref().map(|_| kept_policy(home, &entry)).transpose()?;
    Ok(Shown { entry, policy })
}

/// The names and texts of the files of an entry's policy.
///
/// # Errors
/// As for [`show`], or if it has none.
pub(crate) fn files(home: &Home, id: u64) -> Result<Vec<(String, String)>, Failure> {
    let policy = show(home, id)?.policy;
    policy.map(|it| it.files).ok_or_else(|| {
        Failure::usage(format!("entry {id} has no policy"), "`tipstaff docket` lists the entries")
    })
}

/// The text of an entry's policy, byte for byte; of several files that of the one named.
///
/// # Errors
/// As for [`show`], or if it is not said which file is meant.
pub fn text(home: &Home, id: u64, file: Option<&str>) -> Result<String, Failure> {
    let files = files(home, id)?;
    let names: Vec<&str> = files.iter().map(|it| it.0.as_str()).collect();
    let found = match (file, &files[..]) {
        (None, [only]) => Some(only),
        (None, _) => None,
        (Some(name), files) => {
            files.iter().find(|it| it.0 == name || undo::name_of(Path::new(&it.0)) == name)
        }
    };
    found.map(|it| it.1.clone()).ok_or_else(|| {
        Failure::usage(
            format!("the policy of entry {id} has {} files", names.len()),
            format!("name one of them behind --text: {}", names.join(", ")),
        )
    })
}

/// The policy of an entry, worked out.
///
/// # Errors
/// As for [`show`].
pub fn policy(home: &Home, id: u64) -> Result<Loaded, Failure> {
    transaction::as_written(home, &find(home, id)?)
}

/// Writes the docket anew with what can be read of it, and says what was lost and what is damaged.
///
/// # Errors
/// [`Failure`] if it cannot be read or written at all.
pub fn mend(machine: &dyn Machine, home: &Home) -> Result<Mended, Failure> {
    let mut docket = Docket::open(home)?;
    let lost = docket.written().lost.clone();
    let mut found = damaged(home, docket.entries());
    if let Err(why) = pending(home) {
        found.push(format!(
            "{why}: if a change waited, it goes back now or has gone back; `tipstaff status` tells"
        ));
        set_pending(home, None)?;
    }
    if !lost.is_empty() {
        docket.rewrite().map_err(|error| Failure::System {
            message: format!("cannot write the docket in {}: {error}", home.folder.display()),
            help: vec!["nothing was changed".into()],
        })?;
    }
    found.extend(note(home, &docket));
    drop(docket);
    transaction::look_after(machine, home);
    let entries = Docket::look(home)?.entries.len();
    Ok(Mended { state: home.folder.display().to_string(), entries, lost, found })
}

/// Kept policies that are not what they were, of entries that one can go back to.
pub fn damaged(home: &Home, entries: &[Entry]) -> Vec<String> {
    let mut seen = BTreeSet::new();
    let mut found = Vec::new();
    for entry in entries.iter().rev() {
        let Some(digest) = &entry.policy else { continue };
        if !matches!(entry.state, State::Confirmed | State::Pending) || !seen.insert(digest) {
            continue;
        }
        if let Some(why) = damage(home, digest) {
            found.push(format!("the policy of entry {} {why}", entry.id));
        }
    }
    found
}

/// Holds the boot's note against the docket, and writes it anew where it says less.
fn note(home: &Home, docket: &Docket) -> Option<String> {
    let read = Note::read(home);
    let confirmed = docket.confirmed().map(Note::of);
    match (read, confirmed) {
        (Ok(Some(noted)), confirmed)
            if confirmed.as_ref().is_none_or(|it| it.entry < noted.entry) =>
        {
            Some(format!(
                "entry {} was confirmed, by the note for the boot, and the docket has lost it; \
                 enforce again",
                noted.entry
            ))
        }
        (Ok(_), None) => None,
        (Err(why), None) => Some(why),
        (read, Some(confirmed)) => {
            if let Err(error) = confirmed.write(home) {
                return Some(format!("the note for the boot cannot be written: {error}"));
            }
            read.err().map(|why| format!("{why}; it was written anew"))
        }
    }
}
