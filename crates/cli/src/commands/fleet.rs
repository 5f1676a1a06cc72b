//! `fleet`: one policy for many hosts.

use super::context::Context;
use super::output::Output;
use super::pairs::{Expectations, Matrix, Reach};
use super::probing::Probe;
use super::rolling::{Hold, RollOut, Take};
use super::sealing::{Compare, Seal, Undo, Verify};
use super::standing::Status;
use clap::Subcommand;
use tipstaff_app::Failure;

/// What can be done for a fleet.
#[derive(Debug, Subcommand)]
pub enum Fleet {
    /// Seal the policy as it is: pack it, sign it with an SSH key, and put it where the hosts take it from
    Seal(Seal),
    /// Say whether this host would take a sealed bundle, and why not
    Verify(Verify),
    /// Show what a policy or a sealed bundle changes, host by host; those that fare alike together
    Compare(Compare),
    /// Say whether one host reaches another, and which decision of which host says so
    Reach(Reach),
    /// Show who reaches whom with some traffic, exactly
    Matrix(Matrix),
    /// Prove what must hold between hosts, or show which decision of which host is against it
    Expectations(Expectations),
    /// Let hosts try each other, and hold what they meet against what the policy says
    Probe(Probe),
    /// Tell hosts to take what was sealed last, some at a time; stops by itself where one does not
    RollOut(RollOut),
    /// Let no more hosts take what is rolled out
    Hold(Hold),
    /// Seal once more what was sealed before, and tell those that have the newest to take it
    Undo(Undo),
    /// Show what each host has, what it should have, and what is wrong
    Status(Status),
    /// Take what this host is told to, once; `attend --fleet` does so by itself
    Take(Take),
}

impl Fleet {
    /// Whether it changes what the kernel does.
    pub fn changes_the_kernel(&self) -> bool {
        matches!(self, Self::Take(_))
    }

    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        match self {
            Self::Seal(it) => it.run(context),
            Self::Verify(it) => it.run(context),
            Self::Compare(it) => it.run(context),
            Self::Reach(it) => it.run(context),
            Self::Matrix(it) => it.run(context),
            Self::Expectations(it) => it.run(context),
            Self::Probe(it) => it.run(context),
            Self::RollOut(it) => it.run(context),
            Self::Hold(it) => it.run(context),
            Self::Undo(it) => it.run(context),
            Self::Status(it) => it.run(context),
            Self::Take(it) => it.run(context),
        }
    }
}
