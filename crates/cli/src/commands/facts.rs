//! `facts`: this machine's answers, to be looked at by somebody else.

use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use tipstaff_app::{Failure, facts, load_all};

/// Options of `facts`.
#[derive(Debug, Args)]
pub struct Facts {
    /// Put other addresses in the place of all: the same for the same, and of one network for those of one network; names stay
    #[arg(long)]
    pub mask: bool,
}

impl Facts {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let path = &context.global.policy;
        // A machine without a policy has facts too.
        let policy = if path.exists() { Some(load_all(path)?.1) } else { None };
        let busy = render::progress("asking");
        let report = facts::report(context.machine, policy.as_ref(), self.mask)?;
        drop(busy);
        Ok(context.fine(&report, render::facts))
    }
}
