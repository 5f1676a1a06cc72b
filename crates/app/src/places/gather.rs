//! What files say, as bytes: from here, or from a server. Each is read once, however many places want it.

use super::far;
use super::said::{LARGEST, Said, text};
use crate::load::only_ours;
use std::collections::HashMap;
use std::fs::File;
use std::io::Read;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use tipstaff_core::policy::{Held, is_far};

/// The files of places, each read once.
pub(super) struct Gathered {
    /// The folder from which paths are seen.
    folder: PathBuf,
    read: HashMap<(String, Option<Held>), Result<Said, String>>,
}

impl Gathered {
    pub(super) fn of(policy: &Path) -> Self {
        let folder = match policy.is_dir() {
            true => policy.to_owned(),
            false => policy.parent().unwrap_or(Path::new("")).to_owned(),
        };
        Self { folder, read: HashMap::new() }
    }

    /// What a file says, or why it cannot be had, as the end of a sentence. A far one that is what it was when it was
    /// `held` need not be sent.
    pub(super) fn read(&mut self, name: &str, held: Option<&Held>) -> Result<Said, String> {
        // What is the same as one knows it need not be the same as another does.
        let key = (name.to_owned(), held.cloned());
        if let Some(known) = self.read.get(&key) {
            return known.clone();
        }
        let said = match is_far(name) {
            true => far::fetch(name, held),
            false => near(&self.folder.join(name)).map(|text| Said::Text(text, None)),
        };
        self.read.insert(key, said.clone());
        said
    }
}

/// Reads a file of this machine. One that others could write would let them decide what the rules do.
fn near(path: &Path) -> Result<String, String> {
    let failed = |error: std::io::Error| format!("cannot be read: {error}");
    // A pipe must not make anybody wait.
    let flags = i32::try_from(rustix::fs::OFlags::NONBLOCK.bits()).unwrap_or_default();
    let file = File::options().read(true).custom_flags(flags).open(path).map_err(failed)?;
    let metadata = file.metadata().map_err(failed)?;
    if !metadata.is_file() {
        return Err("is no plain file".into());
    }
    only_ours(&path.display().to_string(), &metadata)
        .map_err(|it| format!("cannot be trusted: {}", it.line()))?;
    let mut bytes = Vec::new();
    file.take(LARGEST + 1).read_to_end(&mut bytes).map_err(failed)?;
    text(bytes)
}
