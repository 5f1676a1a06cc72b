//! A policy as it was last committed to the version control of its folder.

use super::Failure;
use gix_hash::Kind;
use gix_object::FindExt;
use gix_ref::file::ReferenceExt;
use std::fs;
use std::path::{Path, PathBuf};
use tipstaff_core::policy::Source;

/// The work tree that a path is in, and where its history is kept.
struct WorkTree {
    root: PathBuf,
    /// With the head.
    own: PathBuf,
    /// With the objects.
    common: PathBuf,
}

impl WorkTree {
    fn around(path: &Path) -> Option<Self> {
        for folder in path.ancestors() {
            let marker = folder.join(".git");
            let own = if marker.is_dir() {
                marker
            } else if let Ok(text) = fs::read_to_string(&marker) {
                // A linked work tree names the place in a file.
                folder.join(text.strip_prefix("gitdir:")?.trim())
            } else {
                continue;
            };
            let common = match fs::read_to_string(own.join("commondir")) {
                Ok(text) => own.join(text.trim()),
                Err(_) => own.clone(),
            };
            return Some(Self { root: folder.to_owned(), own, common });
        }
        None
    }
}

/// The texts of the policy at `path` as of the last commit.
///
/// # Errors
/// [`Failure`] if the path is not in a work tree, or was never committed.
pub fn sources(path: &Path) -> Result<Vec<Source>, Failure> {
    let shown = path.display();
    let nowhere = |why: String| {
        Failure::usage(
            format!("there is no committed version of {shown}: {why}"),
            "`committed` needs a policy in a git work tree, committed at least once",
        )
    };
    let whole = fs::canonicalize(path).map_err(|error| nowhere(error.to_string()))?;
    let tree =
        WorkTree::around(&whole).ok_or_else(|| nowhere("it is in no git work tree".into()))?;
    let inside = whole.strip_prefix(&tree.root).unwrap_or(&whole);
    let objects = gix_odb::at(tree.common.join("objects"), Kind::Sha1)
        .map_err(|error| nowhere(error.to_string()))?;
    let refs = if tree.own == tree.common {
        gix_ref::file::Store::at(tree.own, Kind::Sha1)
    } else {
        gix_ref::file::Store::for_linked_worktree(tree.own, tree.common, Kind::Sha1)
    };
    let head = refs.find("HEAD").and_then(|mut head| head.peel_to_id(&refs, &objects));
    let commit = head.map_err(|error| nowhere(error.to_string()))?;
    let mut buffer = Vec::new();
    let root = objects
        .find_commit(&commit, &mut buffer)
        .map_err(|error| nowhere(error.to_string()))?
        .tree();
    let (mut buffer, mut path_buffer) = (Vec::new(), Vec::new());
    let entry = objects
        .find_tree_iter(&root, &mut buffer)
        .and_then(|it| it.lookup_entry_by_path(&objects, &mut path_buffer, inside))
        .map_err(|error| nowhere(error.to_string()))?
        .ok_or_else(|| nowhere("the last commit does not have it".into()))?;
    let text = |name: &str, id: &gix_hash::oid| -> Result<Source, Failure> {
        let mut buffer = Vec::new();
        let blob =
            objects.find_blob(id, &mut buffer).map_err(|error| nowhere(error.to_string()))?;
        let text = std::str::from_utf8(blob.data).map_err(|error| nowhere(error.to_string()))?;
        Ok(Source::new(&format!("committed:{name}"), text))
    };
    if !entry.mode.is_tree() {
        return Ok(vec![text(&shown.to_string(), &entry.oid)?]);
    }
    let mut buffer = Vec::new();
    let folder =
        objects.find_tree(&entry.oid, &mut buffer).map_err(|error| nowhere(error.to_string()))?;
    let mut sources = Vec::new();
    // In order of their names, as the folder itself is read.
    for file in folder.entries.iter().filter(|it| it.mode.is_blob()) {
        let name = String::from_utf8_lossy(file.filename).into_owned();
        if name.ends_with(".toml") && !name.starts_with('.') {
            sources.push(text(&format!("{shown}/{name}"), file.oid)?);
        }
    }
    Ok(sources)
}
