//! The way back of a policy's file: the last change taken back, a former policy restored.

use super::edit::{Report, Request, carry_out, lines, write_down};
use super::{Failure, docket, load_all};
use crate::store::{self, Home, undo};
use std::path::Path;
use tipstaff_core::policy::edit::Edited;

/// Writes the policy of an entry of the docket back to the file, also where what is there now is none.
///
/// # Errors
/// [`Failure`] if the entry has no policy, or one of several files, or the file cannot be written; then
/// nothing is changed.
pub fn restore(
    home: &Home,
    path: &Path,
    host: Option<&str>,
    id: u64,
    dry: bool,
) -> Result<Report, Failure> {
    let text = docket::text(home, id, None)?;
    if path.is_dir() {
        return Err(Failure::usage(
            format!("{} is a folder, and the policy of entry {id} one file", path.display()),
            "name the file with --policy, or write it by hand from `tipstaff docket show ID --text`",
        ));
    }
    let _lock = store::lock(path)?;
    let done = format!("restored: the policy of entry {id}");
    let request = Request { path, host, about_host: false, rule: None, done, dry };
    let edited = Edited { source: 0, text: text.clone() };
    match load_all(path) {
        Ok(loaded) => carry_out(
            &request,
            loaded,
            |_, _, _| Ok(edited),
            |before, after| write_down(&request, before, after),
        ),
        Err(Failure::Input { sources, .. }) if sources.len() == 1 => {
            let before = &sources[0];
            if !dry {
                write_down(&request, before, &text)?;
            }
            Ok(Report {
                done: request.done,
                file: before.name.to_string(),
                written: !dry,
                hosts: Vec::new(),
                nothing: Some(
                    "what was there was no policy, so what changes for packets is not told".into(),
                ),
                notes: Vec::new(),
                broken: Vec::new(),
                lines: lines(&before.text, &text),
            })
        }
        Err(failure) => Err(failure),
    }
}

/// Takes back the last change that was made from the command line.
///
/// # Errors
/// [`Failure`] if there is none, or if the file was changed otherwise since; then nothing is changed.
pub fn take_back(path: &Path, host: Option<&str>, dry: bool) -> Result<Report, Failure> {
    let _lock = store::lock(path)?;
    let loaded = load_all(path)?;
    let mut changes = undo::changes(path)?;
    let now = |change: &undo::Change| {
        loaded.0.iter().position(|it| undo::name_of(Path::new(&*it.name)) == change.file)
    };
    // What somebody was kept from making, or has taken back already, is no change.
    while changes.last().is_some_and(|it| {
        now(it).is_some_and(|at| *loaded.0[at].text == *it.before && !it.led_to(&it.before))
    }) {
        changes.pop();
    }
    let Some(last) = changes.pop() else {
        return Err(Failure::usage(
            "there is no change to take back",
            "changes made from the command line can be taken back, others cannot",
        ));
    };
    let at = now(&last).filter(|&at| last.led_to(&loaded.0[at].text));
    let Some(source) = at else {
        return Err(Failure::usage(
            format!("{} has been changed otherwise since: {}", last.file, last.done),
            "to take that back would lose what was changed since; edit the file, or use `rule change`",
        ));
    };
    let done = format!("taken back: {}", last.done);
    let request = Request { path, host, about_host: false, rule: None, done, dry };
    let edited = Edited { source, text: last.before.clone() };
    carry_out(
        &request,
        loaded,
        |_, _, _| Ok(edited),
        |before, after| {
            store::replace(Path::new(&*before.name), after.as_bytes())?;
            undo::keep(path, &changes)
        },
    )
}
