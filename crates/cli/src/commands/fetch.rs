//! The process that speaks with servers of places' files.

use super::output::Output;
use clap::Args;
use tipstaff_app::{Failure, places};

/// Options of the process that speaks with servers.
#[derive(Debug, Args)]
pub struct Fetch {}

impl Fetch {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not hand over what it was sent.
    pub fn run() -> Result<Output, Failure> {
        let handed = places::lend(std::io::stdin().lock(), &mut std::io::stdout().lock());
        handed.map_err(|error| Failure::System {
            message: format!("cannot hand over what a server sent: {error}"),
            help: Vec::new(),
        })?;
        Ok(Output::silent())
    }
}
