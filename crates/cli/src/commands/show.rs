//! `show`: the decision list.

use super::context::Context;
use super::in_posture::InPosture;
use super::output::Output;
use crate::render;
use clap::Args;
use tipstaff_app::{Failure, show};

/// Options of `show`.
#[derive(Debug, Args)]
pub struct Show {
    #[command(flatten)]
    pub in_posture: InPosture,
}

impl Show {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        Ok(context.fine(&show::report(&context.policy_in(&self.in_posture)?), render::show))
    }
}
