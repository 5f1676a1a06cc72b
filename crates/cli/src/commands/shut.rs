//! `shut`: nothing in or out but loopback.

use super::context::Context;
use super::output::Output;
use super::span::lasting;
use crate::render;
use clap::Args;
use std::time::Duration;
use tipstaff_app::Failure;
use tipstaff_app::posture::{self, Wish};

/// Options of `shut`.
#[derive(Debug, Args)]
pub struct Shut {
    /// Open by itself after so long, such as 30m
    #[arg(long = "for", value_name = "SPAN", value_parser = lasting)]
    pub time: Option<Duration>,
    /// Also end the remote session from which this is asked
    #[arg(long)]
    pub all: bool,
    /// Why, for whoever looks later
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub why: String,
    /// Go on although nobody could open again from afar
    #[arg(long)]
    pub even_if_locked_out: bool,
}

impl Shut {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let wish = Wish {
            time: self.time,
            all: self.all,
            even_if_locked_out: self.even_if_locked_out,
            why: self.why.clone(),
        };
        let report = posture::shut(context.machine, &wish)?;
        Ok(context.shown(&report, report.outcome(), render::posture))
    }
}
