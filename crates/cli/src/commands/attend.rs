//! `attend`: follows what happens to the machine.

use super::context::Context;
use super::output::Output;
use crate::render::{self, Format};
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
        let json = context.format() == Format::Json;
        attend::attend(context.machine, context.home, &mut |found| {
            match found {
                Ok(followed) if json => render::print(&render::line_of_json(followed)),
                Ok(followed) => render::print(&render::followed(followed)),
                Err(failure) => {
                    // The next one may work: it goes on.
                    render::failure(failure, Format::Text, context.global.color);
                    Ok(())
                }
            }
        })?;
        Ok(Output::silent())
    }
}
