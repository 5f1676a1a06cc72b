//! What a command is run with.

use super::global::Global;
use super::in_posture::InPosture;
use super::output::Output;
use crate::render::{self, Format, Screen};
use serde::Serialize;
use std::ffi::OsString;
use tipstaff_app::store::Home;
use tipstaff_app::{Failure, Loaded, Outcome, load, load_here};
use tipstaff_linux::Machine;

/// Runs a command line, as if it had been typed.
pub type Typed = fn(&[OsString], &Screen) -> Result<Output, Failure>;

/// What a command is run with.
pub struct Context<'c> {
    /// The options of every command.
    pub global: &'c Global,
    /// Where its text is shown.
    pub screen: &'c Screen,
    /// The machine that it is about.
    pub machine: &'c dyn Machine,
    /// Where the docket is.
    pub home: &'c Home,
    /// For a command that shows others at work.
    pub typed: Typed,
}

impl Context<'_> {
    /// The host that was named.
    pub fn host(&self) -> Option<&str> {
        self.global.host.as_deref()
    }

    /// How results are written.
    pub fn format(&self) -> Format {
        self.global.format
    }

    /// The policy for the host that is meant.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be read, or has no such host.
    pub fn policy(&self) -> Result<Loaded, Failure> {
        load(&self.global.policy, self.host())
    }

    /// The policy for the host that is meant, in the posture that was asked for.
    ///
    /// # Errors
    /// As for [`Context::policy`], or if the host has no such posture.
    pub fn policy_in(&self, posture: &InPosture) -> Result<Loaded, Failure> {
        let mut policy = self.policy()?;
        posture.posture.as_deref().map_or(Ok(()), |it| policy.in_posture(it))?;
        Ok(policy)
    }

    /// Likewise, for this machine.
    ///
    /// # Errors
    /// As for [`Context::policy_in`].
    pub fn here_in(&self, posture: &InPosture) -> Result<Loaded, Failure> {
        let mut policy = self.policy_in(posture)?;
        policy.place(self.machine)?;
        Ok(policy)
    }

    /// The policy for the host that is meant, for this machine, in the posture in force.
    ///
    /// # Errors
    /// As for [`Context::policy`].
    pub fn here(&self) -> Result<Loaded, Failure> {
        load_here(self.machine, &self.global.policy, self.host())
    }

    /// A report in the format asked for.
    pub fn shown<R: Serialize>(
        &self,
        report: &R,
        outcome: Outcome,
        text: impl FnOnce(&R, &Screen) -> String,
    ) -> Output {
        Output { text: render::report(self.format(), self.screen, report, text), outcome }
    }

    /// Likewise, of something that cannot go wrong once it is known.
    pub fn fine<R: Serialize>(
        &self,
        report: &R,
        text: impl FnOnce(&R, &Screen) -> String,
    ) -> Output {
        self.shown(report, Outcome::Fine, text)
    }
}
