//! `demo`: the whole example.

use super::context::Context;
use super::output::Output;
use crate::demo::{self, Story};
use clap::Args;
use tipstaff_app::Failure;

/// Options of `demo`.
#[derive(Debug, Args)]
pub struct Demo {
    /// Which story is told
    #[arg(value_name = "STORY", value_enum, default_value = "loop")]
    story: Story,
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
        demo::run(self.story, self.sealed, context.format(), context.global.color, context.typed)
    }
}
