//! `place refresh`: the files of places are read anew; what they say is held against what they said, kept, and put in
//! force.

use super::checked::{self, Outcome as Read};
use super::force::{in_step, put_in_force};
use super::gather::Gathered;
use super::wish::Wish;
use crate::edit::{HostEffect, OnHosts, on_hosts};
use crate::finding::Finding;
use crate::store::{self, snapshots};
use crate::transaction::{self, Options};
use crate::vocabulary as say;
use crate::{Failure, Outcome, load_all, loaded_unread};
use serde::Serialize;
use std::path::Path;
use tipstaff_core::policy::{Data, Place, Policy, Snapshot, Source, read_all};

/// What was done, or would be.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The places, in the order of the policy.
    pub places: Vec<PlaceWords>,
    /// Whether what was read is kept now.
    pub written: bool,
    /// What changes for packets, host by host; hosts for which nothing changes are left out.
    pub hosts: Vec<HostEffect>,
    /// Expectations that held before, and do not hold any more.
    pub broken: Vec<Finding>,
    /// How it was put in force; `null` if it was not, or was already.
    pub enforced: Option<transaction::Report>,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
}

/// What came of one place.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PlaceWords {
    /// Its name.
    pub name: String,
    /// What became of it.
    pub done: say::Refreshed,
    /// How many ranges of addresses its files have now, or had last where they are not taken; `null` if they were
    /// never read.
    pub ranges: Option<usize>,
    /// How many came.
    pub came: usize,
    /// How many went.
    pub gone: usize,
    /// When they began to say what they say (RFC 3339); `null` if they were never read.
    pub taken: Option<String>,
    /// Why they are not taken, as whole sentences.
    pub why: Vec<String>,
}

impl Report {
    /// Whether all was taken, and all expectations still hold.
    pub fn outcome(&self) -> Outcome {
        let refused = self.places.iter().any(|it| it.done == say::Refreshed::Refused);
        if refused || !self.broken.is_empty() { Outcome::Found } else { Outcome::Fine }
    }
}

/// What was read of a place, and what was kept of it.
struct One {
    words: PlaceWords,
    new: Option<Source>,
    same: bool,
}

/// Reads the files of places anew. What they say now is kept, unless something speaks against it, and put in force where
/// the policy's rules are.
///
/// # Errors
/// [`Failure`] if there are no such places, or if it can be neither kept nor put in force; then all is as it was.
pub fn refresh(
    path: &Path,
    host: Option<&str>,
    wish: &Wish<'_>,
    options: &Options<'_>,
) -> Result<Report, Failure> {
    // Whoever else changes the policy, or what its places hold, waits until this is done.
    let _lock = store::lock(path)?;
    let (sources, old, now) = load_all(path)?;
    let wanted = wanted(&old, wish.places)?;
    let mut gathered = Gathered::of(path);
    let mut list = Vec::with_capacity(wanted.len());
    for place in wanted {
        list.push(one(path, place, &sources, |data, before| {
            checked::read((&place.name, data), before, &mut gathered, (wish, now))
        }));
    }
    let texts = not_locking_out(path, host, options, &sources, &mut list);
    let new =
        read_all(&texts).map_err(|problems| Failure::Input { sources: texts.clone(), problems })?;
    let OnHosts { hosts, broken } = on_hosts((&old, &new), now);
    let mut remarks = Vec::new();
    let mut enforced = None;
    if !options.dry {
        let before = in_step(path, host, options);
        let undo = write(path, &list, &sources)?;
        match put_in_force(path, host, options, before) {
            Ok((done, remark)) => (enforced, remarks) = (done, remark.into_iter().collect()),
            Err(failure) => return Err(taken_back(undo, failure)),
        }
    }
    let places = list.into_iter().map(|it| it.words).collect();
    Ok(Report { places, written: !options.dry, hosts, broken, enforced, remarks })
}

/// The places that are meant.
fn wanted<'p>(policy: &'p Policy, names: &[String]) -> Result<Vec<&'p Place>, Failure> {
    let with_data = || policy.places.iter().filter(|it| it.data.is_some());
    if with_data().next().is_none() {
        return Err(Failure::usage(
            "no place of this policy takes its addresses from files",
            "`file` or `country` in a place's section says where from; see `tipstaff place add --help`",
        ));
    }
    if names.is_empty() {
        return Ok(with_data().collect());
    }
    let mut found = Vec::new();
    for name in names {
        match policy.place(name) {
            Some(place) if found.iter().any(|it: &&Place| it.name == place.name) => {}
            Some(place) if place.data.is_some() => found.push(place),
            Some(_) => {
                return Err(Failure::usage(
                    format!(
                        "the place `{name}` has no files: its addresses are written in the policy"
                    ),
                    "`tipstaff place list` tells which have",
                ));
            }
            None => {
                let known: Vec<&str> = with_data().map(|it| it.name.as_str()).collect();
                return Err(Failure::usage(
                    format!("there is no place `{}`", name.escape_debug()),
                    format!("those with files are: {}", known.join(", ")),
                ));
            }
        }
    }
    Ok(found)
}

/// Reads the files of one place.
fn one(
    path: &Path,
    place: &Place,
    sources: &[Source],
    read: impl FnOnce(&Data, Option<Snapshot>) -> Read,
) -> One {
    let data = place.data.clone().unwrap_or_default();
    let kept = sources.iter().find(|it| it.place.as_deref() == Some(&place.name));
    let before = kept.and_then(|it| Snapshot::parse(it).ok()).filter(|_| data.snapshot.is_some());
    let known = before.as_ref().map(|it| (it.lines, it.taken.to_string()));
    let words = |done, said: Option<&Snapshot>, why| PlaceWords {
        name: place.name.clone(),
        done,
        ranges: said.map(|it| it.lines).or(known.as_ref().map(|it| it.0)),
        came: said.map_or(0, |it| it.changed.0),
        gone: said.map_or(0, |it| it.changed.1),
        taken: said.map(|it| it.taken.to_string()).or(known.as_ref().map(|it| it.1.clone())),
        why,
    };
    let was_there = before.is_some();
    match read(&data, before) {
        Read::New(said) => {
            let done = if was_there { say::Refreshed::Changed } else { say::Refreshed::New };
            let file = snapshots::file(path, &place.name);
            let source =
                Source::of_place(&place.name, &file.display().to_string(), &said.to_text());
            One { words: words(done, Some(&said), Vec::new()), new: Some(source), same: false }
        }
        Read::Same(said) => {
            let said = Snapshot { changed: (0, 0), ..said };
            One {
                words: words(say::Refreshed::Same, Some(&said), Vec::new()),
                new: None,
                same: true,
            }
        }
        Read::Refused(why) => {
            One { words: words(say::Refreshed::Refused, None, why), new: None, same: false }
        }
    }
}

/// The policy with what was read, but for what would shut out a session that lives now: that is refused.
fn not_locking_out(
    path: &Path,
    host: Option<&str>,
    options: &Options<'_>,
    sources: &[Source],
    list: &mut [One],
) -> Vec<Source> {
    let why = |texts: &[Source]| -> Option<String> {
        let mut policy = loaded_unread(&path.display().to_string(), texts.to_vec(), host).ok()?;
        policy.place(options.machine).ok()?;
        Some(transaction::locks_out(&policy, options)?.line())
    };
    let new = || list.iter().filter_map(|it| it.new.as_ref());
    let all = new().fold(sources.to_vec(), |texts, it| with(&texts, it));
    // What is so already is not of this.
    if options.even_if_locked_out || why(&all).is_none() || why(sources).is_some() {
        return all;
    }
    let mut texts = sources.to_vec();
    for one in list {
        let Some(new) = &one.new else { continue };
        let with = with(&texts, new);
        match why(&with) {
            None => texts = with,
            Some(why) => {
                one.words.done = say::Refreshed::Refused;
                one.words.why = vec![format!("{why}; --even-if-locked-out takes it all the same")];
                (one.words.came, one.words.gone) = (0, 0);
                one.new = None;
            }
        }
    }
    texts
}

/// The texts with another of what a place holds, the files of the policy first.
fn with(texts: &[Source], new: &Source) -> Vec<Source> {
    let others = texts.iter().filter(|it| it.place != new.place);
    let mut with: Vec<Source> = others.chain([new]).cloned().collect();
    with.sort_by(|a, b| (a.place.is_some(), &a.name).cmp(&(b.place.is_some(), &b.name)));
    with
}

/// Files as they were, to be written back.
type Undo = Vec<(std::path::PathBuf, Option<String>)>;

/// Keeps what was read.
fn write(path: &Path, list: &[One], sources: &[Source]) -> Result<Undo, Failure> {
    let mut undo = Undo::new();
    if list.iter().any(|it| it.new.is_some()) {
        snapshots::make(path)?;
    }
    for one in list {
        let file = snapshots::file(path, &one.words.name);
        if one.same {
            // Its time tells when it was last found to be so; if it cannot be set, it seems older than it is.
            let now = std::time::SystemTime::now();
            let _ = std::fs::File::open(&file).and_then(|it| it.set_modified(now));
        }
        let Some(new) = &one.new else { continue };
        let before = sources.iter().find(|it| it.place == new.place).map(|it| it.text.to_string());
        if let Err(failure) = store::make_like(&file, new.text.as_bytes(), path) {
            return Err(taken_back(undo, failure));
        }
        undo.push((file, before));
    }
    Ok(undo)
}

/// Writes back what was kept before.
fn taken_back(undo: Undo, mut failure: Failure) -> Failure {
    for (file, before) in undo.into_iter().rev() {
        let back = match before {
            Some(text) => store::replace(&file, text.as_bytes()),
            None => store::remove(&file),
        };
        if back.is_err() {
            let file = file.display();
            failure = failure.with_help(format!("{file} could not be made what it was"));
        }
    }
    failure
}
