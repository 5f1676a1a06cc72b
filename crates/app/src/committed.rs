//! A policy as it was last committed to the version control of its folder, told by git itself.

use super::Failure;
use std::fs;
use std::path::Path;
use std::process::Command;
use tipstaff_core::policy::Source;

/// The texts of the policy at `path` as of the last commit.
///
/// # Errors
/// [`Failure`] if git is not installed, does not trust the work tree, or has no such version.
pub(crate) fn sources(path: &Path) -> Result<Vec<Source>, Failure> {
    let shown = path.display();
    let nowhere = |why: String| {
        Failure::usage(
            format!("there is no committed version of {shown}: {why}"),
            "`committed` needs git, and a policy in a work tree of it, committed at least once",
        )
    };
    let whole = fs::canonicalize(path).map_err(|error| nowhere(error.to_string()))?;
    let folder = if whole.is_dir() { &whole } else { whole.parent().unwrap_or(&whole) };
    let file = |name: &str, shown: &str| -> Result<Source, Failure> {
        // `./`: seen from the folder, wherever in the work tree that is.
        let data =
            git(folder, &["cat-file", "blob", &format!("HEAD:./{name}")]).map_err(nowhere)?;
        let text = String::from_utf8(data).map_err(|error| nowhere(error.to_string()))?;
        Ok(Source::new(&format!("committed:{shown}"), &text))
    };
    if !whole.is_dir() {
        let name = whole.file_name().and_then(|it| it.to_str());
        let name = name.ok_or_else(|| nowhere("its name is not UTF-8".into()))?;
        return Ok(vec![file(name, &shown.to_string())?]);
    }
    let list = git(folder, &["ls-tree", "-z", "HEAD"]).map_err(nowhere)?;
    let mut sources = Vec::new();
    // In order of their names, as the folder itself is read: MODE TYPE OBJECT, a tab, NAME.
    for line in String::from_utf8_lossy(&list).split_terminator('\0') {
        let Some((about, name)) = line.split_once('\t') else { continue };
        // A link is kept as a text too, of another mode.
        let is_file = about.starts_with("100");
        if is_file && name.ends_with(".toml") && !name.starts_with('.') {
            sources.push(file(name, &format!("{shown}/{name}"))?);
        }
    }
    if sources.is_empty() {
        return Err(nowhere("the last commit has no policy there".into()));
    }
    Ok(sources)
}

/// The revision that the texts `own` of the policy at `path` are of, if they are just what was committed last.
pub(crate) fn revision(path: &Path, own: &[Source]) -> Option<String> {
    let committed = sources(path).ok()?;
    let same = committed.iter().map(|it| &it.text).eq(own.iter().map(|it| &it.text));
    let whole = fs::canonicalize(path).ok().filter(|_| same)?;
    let folder = if whole.is_dir() { &whole } else { whole.parent()? };
    let name = git(folder, &["rev-parse", "--verify", "HEAD"]).ok()?;
    String::from_utf8(name).ok().map(|it| it.trim().to_owned())
}

/// What git gives out, or why it does not.
fn git(folder: &Path, words: &[&str]) -> Result<Vec<u8>, String> {
    let mut command = Command::new("git");
    command.arg("-C").arg(folder).args(words).env("LC_ALL", "C");
    // To read is not to fetch what a partial clone has left out.
    command.env("GIT_NO_LAZY_FETCH", "1");
    let done = command.output();
    let done = done.map_err(|error| format!("git cannot be run: {error}"))?;
    if done.status.success() {
        return Ok(done.stdout);
    }
    let said = String::from_utf8_lossy(&done.stderr);
    Err(format!("git says: {}", said.lines().next().unwrap_or("nothing")))
}
