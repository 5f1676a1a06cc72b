//! `adopt`: a policy from the rules of others.

use super::context::Context;
use super::direction::DirectionWord;
use super::export::Form;
use super::output::Output;
use crate::render::{self, Format};
use clap::Args;
use std::path::PathBuf;
use tipstaff_app::{Failure, Outcome, exported};

/// Options of `adopt`.
#[derive(Debug, Args)]
pub struct Adopt {
    /// The file to read; `-` for standard input
    pub file: PathBuf,
    /// What it is
    #[arg(long, value_name = "FORM")]
    pub from: Form,
    /// Which way the packets go that its lists are about, where their names do not tell
    #[arg(long, value_enum, default_value = "inbound")]
    pub direction: DirectionWord,
}

impl Adopt {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let Form::Acl = self.from;
        let name = self.file.display().to_string();
        let text = exported::file(&self.file)?;
        let host = context.host().unwrap_or("this-host");
        let direction = self.direction.direction();
        let report = exported::from_lists(&name, &text, host, direction)?;
        let wrong = !report.not_taken.is_empty() || !report.open_ended.is_empty();
        let found = if wrong { Outcome::Found } else { Outcome::Fine };
        if context.format() == Format::Text {
            render::remark(context.global.color, &render::not_taken(&report));
        }
        Ok(context.shown(&report, found, |it, _| it.policy.clone()))
    }
}
