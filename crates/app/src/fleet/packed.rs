//! A policy as the files of a sealed bundle, and back.

use crate::Failure;
use crate::load::{of_places, written};
use std::collections::BTreeMap;
use std::path::Path;
use tipstaff_core::policy::{Policy, Source, read_all};

/// Names and what is in them.
pub(super) type Files = BTreeMap<String, Vec<u8>>;

/// In this folder is what places held.
const PLACES: &str = "places/";
const OF_PLACE: &str = ".snapshot";

/// The files of the policy at `path`, as a folder has them: a policy of one file is a folder of one file.
///
/// # Errors
/// [`Failure`] if they cannot be read, or a name cannot be written.
pub(super) fn files(path: &Path) -> Result<(Files, Vec<Source>), Failure> {
    let (own, of_places) = (written(path)?, of_places(path)?);
    let mut files = Files::new();
    for source in &own {
        let name = source.name.rsplit('/').next().unwrap_or_default().to_owned();
        let name = if name.ends_with(".toml") { name } else { format!("{name}.toml") };
        files.insert(name, source.text.as_bytes().to_vec());
    }
    for source in &of_places {
        let place = source.place.as_deref().unwrap_or_default();
        files.insert(format!("{PLACES}{place}{OF_PLACE}"), source.text.as_bytes().to_vec());
    }
    Ok((files, own.into_iter().chain(of_places).collect()))
}

/// The texts of a policy that was sealed.
///
/// # Errors
/// What is wrong with a file.
pub(super) fn sources(files: &Files) -> Result<Vec<Source>, String> {
    let (mut own, mut of_places) = (Vec::new(), Vec::new());
    for (name, bytes) in files {
        let text = str::from_utf8(bytes).map_err(|_| format!("{name} is not UTF-8 text"))?;
        let place = name.strip_prefix(PLACES).and_then(|it| it.strip_suffix(OF_PLACE));
        match place {
            Some(place) => of_places.push(Source::of_place(place, name, text)),
            None if name.contains('/') || !name.ends_with(".toml") => {
                return Err(format!("{name} is no file of a policy"));
            }
            None => own.push(Source::new(name, text)),
        }
    }
    own.extend(of_places);
    Ok(own)
}

/// Likewise, named as they are in the folder where they are put.
///
/// # Errors
/// As for [`sources`].
pub(super) fn sources_at(files: &Files, folder: &Path) -> Result<Vec<Source>, String> {
    let named = |it: Source| {
        let name = folder.join(&*it.name).display().to_string();
        match &it.place {
            Some(place) => Source::of_place(place, &name, &it.text),
            None => Source::new(&name, &it.text),
        }
    };
    Ok(sources(files)?.into_iter().map(named).collect())
}

/// Reads the policy of some texts, with all its places read.
///
/// # Errors
/// [`Failure`] if it is none.
pub(super) fn policy(sources: Vec<Source>) -> Result<Policy, Failure> {
    let policy = match read_all(&sources) {
        Ok(policy) => policy,
        Err(problems) => return Err(Failure::Input { sources, problems }),
    };
    let problems = policy.not_read_yet();
    if problems.is_empty() { Ok(policy) } else { Err(Failure::Input { sources, problems }) }
}
