//! `enforce`: the policy's rules into the kernel.

use super::context::Context;
use super::output::Output;
use super::span::span;
use super::staying::Staying;
use crate::render::{self, Format};
use clap::Args;
use std::time::Duration;
use tipstaff_app::effect::Effects;
use tipstaff_app::{Failure, cut, kernel, load_for_kernel, load_without_posture, transaction};

/// Options of `enforce`.
#[derive(Debug, Args)]
pub struct Enforce {
    #[command(flatten)]
    pub staying: Staying,
    /// Show what would change; change nothing
    #[arg(long)]
    pub dry_run: bool,
    /// Go on although the session you work in could not be opened again
    #[arg(long)]
    pub even_if_locked_out: bool,
    /// Go on although none of the host's addresses is this machine's, or another host's rules were
    /// confirmed here last
    #[arg(long)]
    pub not_this_machine: bool,
    /// Tell every change for packets and all that stays open, however much it is and however long that takes
    #[arg(long)]
    pub all: bool,
    /// Report all decisions for so long, whatever the policy has reported, such as 1h; it ends by itself, or with 0
    #[arg(long, value_name = "SPAN", value_parser = span, conflicts_with = "dry_run")]
    pub log_for: Option<Duration>,
    /// How much memory a boot may need to load the policy
    #[arg(long, value_name = "MIB", default_value_t = transaction::FOR_A_BOOT)]
    pub boot_memory: u64,
    /// Leave rules that name programs out, as if they were paused; `status` goes on saying so
    #[arg(long)]
    pub without_programs: bool,
    /// Leave the posture that is in force, whatever the docket knows of it
    #[arg(long)]
    pub leave_posture: bool,
    /// Also end connections that began before and that the policy would not admit
    #[arg(long, conflicts_with = "dry_run")]
    pub cut: bool,
    /// Load the last confirmed policy from the docket, as at boot
    #[arg(long, conflicts_with_all = ["dry_run", "keep", "even_if_locked_out", "not_this_machine", "cut", "without_programs", "log_for", "leave_posture"])]
    pub boot: bool,
    /// Only if our rules are gone from the kernel, and no change waits to be confirmed
    #[arg(long, requires = "boot")]
    pub if_gone: bool,
}

impl Enforce {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        if self.boot {
            let boot = if self.if_gone { transaction::boot_if_gone } else { transaction::boot };
            let report = boot(context.machine, context.home)?;
            return Ok(context.shown(&report, report.outcome(), render::booted));
        }
        kernel::must_be_new_enough(context.machine)?;
        let load = if self.leave_posture { load_without_posture } else { load_for_kernel };
        let loaded = load(context.machine, &context.global.policy, context.host())?;
        let busy = render::progress("enforcing");
        let tell = |effects: &Effects| {
            busy.clear();
            // Whoever no longer reads it wants it done all the same.
            let _ = render::print(&render::will_change(effects, context.screen));
        };
        let how = transaction::Options {
            dry: self.dry_run,
            without_programs: self.without_programs,
            even_if_locked_out: self.even_if_locked_out,
            not_this_machine: self.not_this_machine,
            all: self.all,
            log_for: self.log_for,
            boot_memory: self.boot_memory,
            tell: (context.format() == Format::Text).then_some(&tell),
            ..self.staying.options(context)
        };
        let mut report = transaction::enforce(&loaded, &how)?;
        if self.cut {
            let mut cut = cut::report(context.machine, cut::End::All)?;
            // Those of addresses that are turned away have been ended already.
            cut.living.splice(0..0, report.living.into_iter().flat_map(|it| it.living));
            report.living = Some(cut);
        }
        drop(busy);
        Ok(context.fine(&report, render::enforced))
    }
}
