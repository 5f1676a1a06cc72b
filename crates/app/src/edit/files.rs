//! The files that a change of the policy concerns.

use crate::Failure;
use crate::store::{self, undo};
use serde::Serialize;
use similar::{Algorithm, DiffTag, capture_diff_slices};
use std::path::Path;
use tipstaff_core::policy::Source;

/// A file of the policy, as it was and as it is to be; there is none where there is no text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct FileChange {
    /// Its path.
    pub name: String,
    /// What was in it.
    pub before: Option<String>,
    /// What is to be in it.
    pub after: Option<String>,
}

/// A further file that is changed.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct OtherFile {
    /// Its path.
    pub file: String,
    /// The lines that go and come.
    pub lines: Vec<Line>,
}

/// A line of the file that goes or comes.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Line {
    /// Its number, in the old text if it goes, in the new one if it comes.
    pub number: usize,
    /// Whether the line comes or goes.
    pub comes: bool,
    /// The text of the line.
    pub text: String,
}

/// The file that is named for something new, if the folder has none of that name yet: with what every
/// file begins with.
pub(super) fn new_file(
    path: &Path,
    named: Option<&str>,
    sources: &[Source],
) -> Result<Option<Source>, Failure> {
    let Some(named) = named.filter(|_| path.is_dir()) else { return Ok(None) };
    let name = undo::name_of(Path::new(named));
    let there = |it: &Source| undo::name_of(Path::new(&*it.name)) == name;
    if sources.iter().any(there) {
        return Ok(None);
    }
    let folder = Path::new(named).parent().filter(|it| !it.as_os_str().is_empty());
    let elsewhere = folder.is_some_and(|it| it != path);
    let plain = !name.starts_with('.') && !name.contains(char::is_control);
    let stem = name.strip_suffix(".toml").is_some_and(|it| !it.is_empty());
    if elsewhere || !plain || !stem {
        return Err(Failure::usage(
            format!("--file {}: that can be no file of the policy", named.escape_debug()),
            format!("its files are in {}, and named like hosts.toml", path.display()),
        ));
    }
    let name = path.join(name).display().to_string();
    Ok(Some(Source::new(&name, "edition = 1\n")))
}

/// What changes if some files get other texts, or go, and the policy's texts afterwards.
pub(super) fn changes(
    sources: &[Source],
    wanted: Vec<(String, Option<String>)>,
) -> (Vec<FileChange>, Vec<Source>) {
    let (mut changes, mut texts) = (Vec::new(), sources.to_vec());
    for (name, after) in wanted {
        let at = texts.iter().position(|it| *it.name == *name);
        let before = at.map(|at| texts[at].text.to_string());
        match (at, &after) {
            (Some(at), Some(text)) => texts[at] = Source::new(&name, text),
            (Some(at), None) => drop(texts.remove(at)),
            (None, Some(text)) => texts.push(Source::new(&name, text)),
            (None, None) => {}
        }
        if before != after {
            changes.push(FileChange { name, before, after });
        }
    }
    texts.sort_by(|a, b| a.name.cmp(&b.name));
    (changes, texts)
}

/// How a change of files is told: the first, its lines, and the others.
pub(crate) fn told(
    changes: &[FileChange],
    sources: &[Source],
) -> (String, Vec<Line>, Vec<OtherFile>) {
    let of = |it: &FileChange| {
        let text = |of: &Option<String>| of.clone().unwrap_or_default();
        lines(&text(&it.before), &text(&it.after))
    };
    let Some((first, rest)) = changes.split_first() else {
        let name = sources.first().map(|it| it.name.to_string()).unwrap_or_default();
        return (name, Vec::new(), Vec::new());
    };
    let other = |it: &FileChange| OtherFile { file: it.name.clone(), lines: of(it) };
    (first.name.clone(), of(first), rest.iter().map(other).collect())
}

/// Writes a change, so that it can be taken back.
///
/// # Errors
/// [`Failure`] if something cannot be written; then what was written of it is put back.
pub(crate) fn write_down(path: &Path, done: &str, changes: &[FileChange]) -> Result<(), Failure> {
    let mut kept = undo::changes(path)?;
    let files = changes
        .iter()
        .map(|it| undo::Was::of(Path::new(&it.name), it.before.as_deref(), it.after.as_deref()));
    kept.push(undo::Change::now(done, files.collect()));
    // Ahead of the change itself: one that was never made is known by what it led to.
    undo::keep(path, &kept)?;
    put_in_place(path, changes)
}

/// Makes the files what they are to be.
///
/// # Errors
/// As for [`write_down`].
pub(crate) fn put_in_place(policy: &Path, changes: &[FileChange]) -> Result<(), Failure> {
    for (at, change) in changes.iter().enumerate() {
        let done = put(policy, &change.name, change.after.as_deref());
        if let Err(failure) = done {
            let back = |it: &&FileChange| put(policy, &it.name, it.before.as_deref()).is_err();
            let stuck: Vec<&str> =
                changes[..at].iter().rev().filter(back).map(|it| it.name.as_str()).collect();
            return Err(match stuck[..] {
                [] => failure,
                _ => Failure::System {
                    message: failure.line(),
                    help: vec![format!(
                        "{} changed all the same, and could not be put back; `tipstaff undo` does it",
                        stuck.join(", ")
                    )],
                },
            });
        }
    }
    Ok(())
}

fn put(policy: &Path, name: &str, text: Option<&str>) -> Result<(), Failure> {
    let file = Path::new(name);
    match text {
        Some(text) if file.exists() => store::replace(file, text.as_bytes()),
        Some(text) => store::make_like(file, text.as_bytes(), policy),
        None => store::remove(file),
    }
}

/// The lines that differ.
fn lines(old: &str, new: &str) -> Vec<Line> {
    let (before, after): (Vec<&str>, Vec<&str>) = (old.lines().collect(), new.lines().collect());
    let line = |at: usize, comes, text: &str| Line { number: at + 1, comes, text: text.to_owned() };
    let mut list = Vec::new();
    for step in capture_diff_slices(Algorithm::Myers, &before, &after) {
        let (tag, gone, come) = step.as_tag_tuple();
        if tag != DiffTag::Equal {
            list.extend(gone.map(|at| line(at, false, before[at])));
            list.extend(come.map(|at| line(at, true, after[at])));
        }
    }
    list
}
