//! `status`: the kernel beside the policy.

use super::context::Context;
use super::output::Output;
use crate::render::{self, Format};
use clap::Args;
use std::mem::ManuallyDrop;
use std::path::PathBuf;
use tipstaff_app::{Failure, kernel, status, store};

/// Options of `status`.
#[derive(Debug, Args)]
pub struct Status {
    /// Instead: try what this kernel can do for the policy, and say what is done without it; changes nothing
    #[arg(long)]
    pub kernel: bool,
    /// Write the measurements into this file, whole or not at all, for a collector that reads files
    /// (OpenMetrics); nothing is printed
    #[arg(long, value_name = "PATH", conflicts_with = "kernel")]
    pub textfile: Option<PathBuf>,
}

impl Status {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        if self.kernel {
            let loaded = context.here()?;
            if context.format() == Format::Openmetrics {
                return Err(Failure::usage(
                    "what the kernel can do is no measurement",
                    "--format json is for programs",
                ));
            }
            let busy = render::progress("trying the kernel");
            let report = kernel::report(context.machine, &loaded)?;
            drop(busy);
            return Ok(context.shown(&report, report.outcome(), render::kernel));
        }
        let busy = render::progress("comparing");
        // The process ends with the command: to give so much memory back piece by piece would only take time.
        let told = status::report_beside(context.machine, context.home, || context.here());
        let told = ManuallyDrop::new(told?);
        let report = &told.1;
        drop(busy);
        let outcome = report.outcome();
        if let Some(path) = &self.textfile {
            store::put_for_all(path, render::status_metrics(report).as_bytes())?;
            return Ok(Output { text: String::new(), outcome });
        }
        Ok(match context.format() {
            Format::Openmetrics => Output { text: render::status_metrics(report), outcome },
            _ => context.shown(report, outcome, render::status),
        })
    }
}
