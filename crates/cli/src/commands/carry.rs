//! The process that speaks with the store of a fleet.

use super::output::Output;
use clap::Args;
use std::io::BufReader;
use std::os::fd::AsFd;
use std::path::PathBuf;
use tipstaff_app::Failure;
use tipstaff_app::fleet::{self, UntilGone};

/// Options of the process that speaks with a store.
#[derive(Debug, Args)]
pub struct Carry {
    /// Instead: the far end of a carrier over SSH, about this folder
    #[arg(long, value_name = "PATH")]
    folder: Option<PathBuf>,
}

impl Carry {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not hand over what it was answered.
    pub fn run(&self) -> Result<Output, Failure> {
        let (from, mut to) = (std::io::stdin(), std::io::stdout().lock());
        let handed = match &self.folder {
            Some(folder) => from.as_fd().try_clone_to_owned().and_then(|from| {
                let from = BufReader::new(UntilGone::of(from.into()));
                fleet::carry_folder(folder, from, &mut to)
            }),
            None => fleet::carry(from.lock(), &mut to),
        };
        handed.map_err(|error| Failure::System {
            message: format!("cannot hand over what the store answered: {error}"),
            help: Vec::new(),
        })?;
        Ok(Output::silent())
    }
}
