//! Writes what a package has beside the program: manual pages and the notices of others' work.

mod language;
mod manual;
mod notices;

use std::path::PathBuf;
use std::process::ExitCode;
use std::{env, fs, io};

const USAGE: &str =
    "usage: packaging-writer FOLDER TARGET < the output of `cargo metadata --format-version 1`";

/// Why nothing, or not all, was written.
#[derive(Debug, thiserror::Error)]
enum Trouble {
    #[error("{USAGE}")]
    Usage,
    #[error("{0}: {1}")]
    File(PathBuf, io::Error),
    #[error("cannot read the crates: {0}")]
    Metadata(#[from] serde_json::Error),
    #[error("{0}")]
    Notices(#[from] notices::Trouble),
}

fn write(path: PathBuf, text: &str) -> Result<(), Trouble> {
    fs::write(&path, text).map_err(|source| Trouble::File(path, source))
}

fn run() -> Result<(), Trouble> {
    let mut arguments = env::args_os().skip(1);
    let (Some(folder), Some(target)) = (arguments.next(), arguments.next()) else {
        return Err(Trouble::Usage);
    };
    let folder = PathBuf::from(folder);
    let made = |source| Trouble::File(folder.clone(), source);
    fs::create_dir_all(folder.join("man")).map_err(made)?;
    for (name, text) in manual::pages(tipstaff_cli::command()) {
        write(folder.join("man").join(name), &text)?;
    }
    write(folder.join("man/tipstaff-policy.5"), &language::page())?;
    let crates = serde_json::from_reader(io::stdin().lock())?;
    write(folder.join("NOTICES"), &notices::text(&crates, &target.to_string_lossy())?)
}

fn main() -> ExitCode {
    match run() {
        Ok(()) => ExitCode::SUCCESS,
        Err(trouble) => {
            eprintln!("packaging-writer: {trouble}");
            ExitCode::FAILURE
        }
    }
}
