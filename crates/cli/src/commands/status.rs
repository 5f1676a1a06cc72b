//! `status`: the kernel beside the policy.

use super::context::Context;
use super::output::Output;
use crate::render;
use clap::Args;
use tipstaff_app::{Failure, kernel, status};

/// Options of `status`.
#[derive(Debug, Args)]
pub struct Status {
    /// Instead: try what this kernel can do for the policy, and say what is done without it; changes nothing
    #[arg(long)]
    pub kernel: bool,
}

impl Status {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let loaded = context.here()?;
        if self.kernel {
            let busy = render::progress("trying the kernel");
            let report = kernel::report(context.machine, &loaded)?;
            drop(busy);
            return Ok(context.shown(&report, report.outcome(), render::kernel));
        }
        let busy = render::progress("comparing");
        let report = status::report(context.machine, &loaded, context.home)?;
        drop(busy);
        Ok(context.shown(&report, report.outcome(), render::status))
    }
}
