//! `adopt`: a policy from the rules of others.

use super::context::Context;
use super::direction::DirectionWord;
use super::export::Form;
use super::output::Output;
use crate::render::{self, Format};
use clap::Args;
use std::path::{Path, PathBuf};
use tipstaff_app::{Failure, Outcome, adopted, exported, whole_plan};

/// Options of `adopt`.
#[derive(Debug, Args)]
pub struct Adopt {
    /// A file to read instead of the kernel's rules; `-` for standard input
    #[arg(requires = "from")]
    pub file: Option<PathBuf>,
    /// What the file is
    #[arg(long, value_name = "FORM", requires = "file")]
    pub from: Option<Form>,
    /// Which way the packets go that its lists are about, where their names do not tell
    #[arg(long, value_enum, default_value = "inbound", requires = "file")]
    pub direction: DirectionWord,
    /// Send no packets in a copy of this machine: compare what rules mean, no more
    #[arg(long, conflicts_with = "file")]
    pub untried: bool,
    /// Tell in which order the rules of others can go, each step tried on a copy
    #[arg(long, conflicts_with = "file")]
    pub hand_over: bool,
}

impl Adopt {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        match &self.file {
            Some(file) if self.from == Some(Form::Json) => Self::plan(context, file),
            Some(file) => self.read(context, file),
            None => self.kernel(context),
        }
    }

    fn kernel(&self, context: &Context) -> Result<Output, Failure> {
        let wanted = adopted::Wanted {
            host: context.host(),
            untried: self.untried,
            hand_over: self.hand_over,
        };
        let bar = render::Bar::new();
        let report = adopted::report(context.machine, &wanted, &|tried, all| {
            bar.show(tried, all);
        })?;
        drop(bar);
        if context.format() == Format::Text {
            render::remark(context.global.color, &render::adopted(&report));
        }
        let found = report.outcome();
        Ok(context.shown(&report, found, |it, _| it.policy.clone()))
    }

    fn plan(context: &Context, file: &Path) -> Result<Output, Failure> {
        let name = file.display().to_string();
        let report = whole_plan::from_plan(&name, &exported::file(file)?)?;
        if context.format() == Format::Text {
            render::remark(context.global.color, &render::nobody(&report));
        }
        Ok(context.shown(&report, Outcome::Fine, |it, _| it.policy.clone()))
    }

    fn read(&self, context: &Context, file: &Path) -> Result<Output, Failure> {
        let name = file.display().to_string();
        let text = exported::file(file)?;
        let host = context.host().unwrap_or(exported::NOBODY);
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
