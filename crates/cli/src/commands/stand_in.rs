//! A stand-in program of the demo.

use super::output::Output;
use crate::demo;
use clap::Args;
use tipstaff_app::Failure;

/// Options of a stand-in program.
#[derive(Debug, Args)]
pub struct StandIn {
    /// Where to listen: tcp:PORT, udp:PORT (both IP versions), tcp4:PORT, ...
    pub listen: Vec<String>,
}

impl StandIn {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self) -> Result<Output, Failure> {
        demo::stand_in(&self.listen)
    }
}
