//! The process that speaks with the store of a fleet.

use super::output::Output;
use clap::Args;
use tipstaff_app::{Failure, fleet};

/// Options of the process that speaks with a store.
#[derive(Debug, Args)]
pub struct Carry {}

impl Carry {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not hand over what it was answered.
    pub fn run() -> Result<Output, Failure> {
        let handed = fleet::carry(std::io::stdin().lock(), &mut std::io::stdout().lock());
        handed.map_err(|error| Failure::System {
            message: format!("cannot hand over what the store answered: {error}"),
            help: Vec::new(),
        })?;
        Ok(Output::silent())
    }
}
