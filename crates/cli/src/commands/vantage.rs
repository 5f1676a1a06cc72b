//! `vantage`: the far end of a check.

use super::context::Context;
use super::output::Output;
use clap::Args;
use std::net::IpAddr;
use tipstaff_app::{Failure, vantage};

/// Options of `vantage`.
#[derive(Debug, Args)]
pub struct Vantage {
    /// An address of the asking host that may be probed although nothing else shows that it is its own
    #[arg(long = "for", value_name = "ADDRESS")]
    pub vouched: Vec<IpAddr>,
}

impl Vantage {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        vantage::serve(context.machine, std::io::stdin(), &mut std::io::stdout(), &self.vouched)?;
        Ok(Output::silent())
    }
}
