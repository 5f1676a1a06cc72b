//! The way back of a policy's files: the last change taken back, a former policy restored.

use super::edit::{FileChange, Report, Request, carry_out, put_in_place, told, write_down};
use super::{Failure, docket, load_all};
use crate::store::{self, Home, undo};
use std::fs;
use std::path::Path;
use tipstaff_core::policy::Source;

/// Writes the policy of an entry of the docket back to its files, also where what is there now is none.
/// Files of a folder that were no part of that policy go.
///
/// # Errors
/// [`Failure`] if the entry has no policy, or one of several files where the policy is a single one, or a
/// file cannot be written; then nothing is changed.
pub fn restore(
    home: &Home,
    path: &Path,
    host: Option<&str>,
    id: u64,
    dry: bool,
) -> Result<Report, Failure> {
    let wanted = restored(home, path, id)?;
    let _lock = store::lock(path)?;
    let done = format!("restored: the policy of entry {id}");
    let request = Request { path, host, about_host: false, rule: None, done, file: None, dry };
    match load_all(path) {
        Ok((sources, old, now)) => {
            let files = sources.iter().filter(|it| it.place.is_none());
            let gone = files.filter(|it| wanted.iter().all(|new| new.0 != *it.name));
            let gone = gone.map(|it| (it.name.to_string(), None)).collect::<Vec<_>>();
            let all = wanted.into_iter().map(|(name, text)| (name, Some(text))).chain(gone);
            let all = all.collect();
            carry_out(
                &request,
                (&sources, &old, now),
                |_| Ok(all),
                |changes| write_down(path, &request.done, changes),
            )
        }
        Err(Failure::Input { sources, .. }) => over_what_is_none(&request, id, &sources, &wanted),
        Err(failure) => Err(failure),
    }
}

/// The files of an entry's policy, where they belong, with their texts.
fn restored(home: &Home, path: &Path, id: u64) -> Result<Vec<(String, String)>, Failure> {
    let files = docket::files(home, id)?;
    if !path.is_dir() {
        return match &files[..] {
            [(_, text)] => Ok(vec![(path.display().to_string(), text.clone())]),
            files => Err(Failure::usage(
                format!("the policy of entry {id} has {} files", files.len()),
                "name a folder for them with --policy",
            )),
        };
    }
    let place = |name: &str| path.join(undo::name_of(Path::new(name))).display().to_string();
    Ok(files.into_iter().map(|(name, text)| (place(&name), text)).collect())
}

/// Restores where what is there now is no policy.
fn over_what_is_none(
    request: &Request<'_>,
    entry: u64,
    found: &[Source],
    wanted: &[(String, String)],
) -> Result<Report, Failure> {
    let text = |name: &str| fs::read(name).ok().and_then(|it| String::from_utf8(it).ok());
    let mut changes = Vec::new();
    for (name, after) in wanted {
        let before = text(name);
        // What is no text cannot be kept as one.
        if before.is_none() && Path::new(name).exists() {
            return Err(Failure::System {
                message: format!("cannot read {name} as text, and so could not take it back"),
                help: vec![format!(
                    "`tipstaff docket show {} --text` prints the policy, to be written by hand",
                    entry
                )],
            });
        }
        changes.push(FileChange { name: name.clone(), before, after: Some(after.clone()) });
    }
    let gone = found.iter().filter(|it| wanted.iter().all(|new| new.0 != *it.name));
    changes.extend(gone.map(|it| FileChange {
        name: it.name.to_string(),
        before: Some(it.text.to_string()),
        after: None,
    }));
    changes.retain(|it| it.before != it.after);
    if !request.dry {
        write_down(request.path, &request.done, &changes)?;
    }
    let (file, lines, others) = told(&changes, found);
    Ok(Report {
        done: request.done.clone(),
        file,
        written: !request.dry,
        hosts: Vec::new(),
        nothing: Some(
            "what was there was no policy, so what changes for packets is not told".into(),
        ),
        notes: Vec::new(),
        broken: Vec::new(),
        unread: Vec::new(),
        lines,
        others,
    })
}

/// Takes back the last change that was made from the command line.
///
/// # Errors
/// [`Failure`] if there is none, or if a file was changed otherwise since; then nothing is changed.
pub fn take_back(path: &Path, host: Option<&str>, dry: bool) -> Result<Report, Failure> {
    take_back_last(path, host, dry, None)
}

/// Takes the last change back if it is the one that was told so.
///
/// # Errors
/// As for [`take_back`], or if somebody has changed something since.
pub(crate) fn take_back_if(path: &Path, host: Option<&str>, done: &str) -> Result<(), Failure> {
    take_back_last(path, host, false, Some(done)).map(drop)
}

fn take_back_last(
    path: &Path,
    host: Option<&str>,
    dry: bool,
    only: Option<&str>,
) -> Result<Report, Failure> {
    let _lock = store::lock(path)?;
    let (sources, old, now) = load_all(path)?;
    let mut changes = undo::changes(path)?;
    let text = |file: &str| {
        let found = sources.iter().find(|it| undo::name_of(Path::new(&*it.name)) == file);
        found.map(|it| &*it.text)
    };
    let is_as_before =
        |it: &undo::Was| text(&it.file) == it.before.as_deref() && !it.led_to(it.before.as_deref());
    // What somebody was kept from making, or has taken back already, is no change.
    while changes.last().is_some_and(|it| it.files.iter().all(is_as_before)) {
        changes.pop();
    }
    let Some(last) = changes.pop() else {
        return Err(Failure::usage(
            "there is no change to take back",
            "changes made from the command line can be taken back, others cannot",
        ));
    };
    if only.is_some_and(|it| it != last.done) {
        return Err(Failure::stopped(
            format!("the policy has been changed since: {}", last.done),
            Vec::new(),
        ));
    }
    // Of several files some may not have been reached: whoever was at it was stopped in between.
    let is_otherwise = |it: &&undo::Was| {
        let now = text(&it.file);
        !it.led_to(now) && now != it.before.as_deref()
    };
    if let Some(other) = last.files.iter().find(is_otherwise) {
        return Err(Failure::usage(
            format!("{} has been changed otherwise since: {}", other.file, last.done),
            "to take that back would lose what was changed since; edit the file, or use `rule change`",
        ));
    }
    let place = |file: &str| match path.is_dir() {
        true => path.join(file).display().to_string(),
        false => path.display().to_string(),
    };
    let wanted = last.files.iter().map(|it| (place(&it.file), it.before.clone())).collect();
    let done = format!("taken back: {}", last.done);
    let request = Request { path, host, about_host: false, rule: None, done, file: None, dry };
    carry_out(
        &request,
        (&sources, &old, now),
        |_| Ok(wanted),
        |made| {
            put_in_place(path, made)?;
            undo::keep(path, &changes)
        },
    )
}
