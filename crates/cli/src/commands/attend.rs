//! `attend`: follows what happens to the machine.

use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use tipstaff_app::{Failure, attend};

/// Options of `attend`.
#[derive(Debug, Args)]
pub struct Attend {}

impl Attend {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(context: &Context) -> Result<Output, Failure> {
        attend::attend(context.machine, context.home, &mut |found| {
            render::print(&match found {
                Ok(followed) => render::followed(followed),
                Err(failure) => format!("{}\n", render::clean(&failure.line())),
            })
        })?;
        Ok(Output::silent())
    }
}
