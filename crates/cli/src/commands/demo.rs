//! `demo`: the whole example.

use super::context::Context;
use super::output::Output;
use crate::demo;
use clap::Args;
use tipstaff_app::Failure;

/// Options of `demo`.
#[derive(Debug, Args)]
pub struct Demo {
    /// Set by the demo itself when it runs inside the lab
    #[arg(long, hide = true)]
    pub sealed: bool,
}

impl Demo {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        demo::run(self.sealed, context.format(), context.global.color, context.typed)
    }
}
