//! `export`: the policy in forms that other programs read.

use super::context::Context;
use super::in_posture::InPosture;
use super::output::Output;
use crate::render::{self, Format};
use clap::{Args, ValueEnum};
use tipstaff_app::{Failure, Outcome, exported, whole_plan};

/// Options of `export`.
#[derive(Debug, Args)]
pub struct Export {
    /// What it is to become
    #[arg(long, value_name = "FORM")]
    pub to: Form,
    #[command(flatten)]
    pub in_posture: InPosture,
}

/// A form that others read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Form {
    /// Access control lists as the IETF models them (RFC 8519), in JSON (RFC 7951)
    Acl,
    /// The same in XML (RFC 7950); to be read, either name does
    AclXml,
    /// The whole plan of the host, what names stand for in place of the names, in JSON (docs/schema/export-plan.json)
    Json,
}

impl Export {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        if self.to == Form::Json {
            let plan = whole_plan::to_plan(&context.policy_in(&self.in_posture)?);
            return Ok(context.shown(&plan, Outcome::Fine, |it, _| render::plan(it)));
        }
        let in_xml = self.to == Form::AclXml;
        let report = exported::to_lists(&context.policy_in(&self.in_posture)?, in_xml)?;
        let found = if report.losses.is_empty() { Outcome::Fine } else { Outcome::Found };
        if context.format() == Format::Text {
            render::remark(context.global.color, &render::losses(&report));
        }
        Ok(context.shown(&report, found, render::lists))
    }
}
