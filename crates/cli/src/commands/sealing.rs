//! `fleet seal`, `undo`, `verify` and `compare`: what is sealed for a fleet.

use super::context::Context;
use super::membership::{By, Carried, Signed};
use super::output::Output;
use super::span::moment;
use crate::render;
use clap::Args;
use std::path::PathBuf;
use tipstaff_app::Failure;
use tipstaff_app::fleet::{self, SealWish, Side, Trust};
use tipstaff_core::policy::Time;

/// Options of `fleet seal`.
#[derive(Debug, Args)]
pub struct Seal {
    #[command(flatten)]
    sealing: Sealing,
    /// Tell what would be sealed; seal nothing
    #[arg(long)]
    dry_run: bool,
}

/// With which key, and until when.
#[derive(Debug, Args)]
pub struct Sealing {
    #[command(flatten)]
    carried: Carried,
    /// The SSH key to sign with; its public part (.pub) if an agent holds the key
    #[arg(long, value_name = "FILE")]
    key: PathBuf,
    /// Where the agent listens that holds the key
    #[arg(long, value_name = "SOCKET", env = "SSH_AUTH_SOCK", hide_env_values = true)]
    agent: Option<PathBuf>,
    /// Until when hosts may take it, such as 2099-03-01T18:00:00Z or +30days; for ever if left out
    #[arg(long, value_name = "TIME", value_parser = expiry)]
    expires: Option<Time>,
    /// Seal it though what must hold between hosts does not, or is not proven
    #[arg(long)]
    even_if_unproven: bool,
}

impl Sealing {
    fn wish<'w>(&'w self, trust: &'w Trust, dry: bool) -> SealWish<'w> {
        let agent = self.agent.as_deref();
        let (key, even_if_unproven) = (&*self.key, self.even_if_unproven);
        SealWish { trust, key, agent, expires: self.expires, even_if_unproven, dry }
    }
}

/// Options of `fleet undo`.
#[derive(Debug, Args)]
pub struct Undo {
    #[command(flatten)]
    sealing: Sealing,
    /// Tell what would be sealed; seal nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `fleet verify`.
#[derive(Debug, Args)]
pub struct Verify {
    /// A sealed bundle by its file, its number at the carrier, or `newest`
    #[arg(value_name = "BUNDLE")]
    bundle: String,
    #[command(flatten)]
    signed: Signed,
    #[command(flatten)]
    by: By,
}

/// Options of `fleet compare`.
#[derive(Debug, Args)]
pub struct Compare {
    /// A sealed bundle by its file, its number at the carrier, or `newest`; or a policy by its path
    #[arg(value_name = "FIRST")]
    first: String,
    /// Likewise; the policy itself if left out
    #[arg(value_name = "SECOND")]
    second: Option<String>,
    #[command(flatten)]
    by: By,
    /// Tell every difference, however many there are
    #[arg(long)]
    all: bool,
}

/// A moment to come.
fn expiry(text: &str) -> Result<Time, String> {
    let written = moment(text)?;
    Time::parse(&written)
        .ok_or_else(|| "expected a time such as 2099-03-01T18:00:00Z or +30days".to_owned())
}

impl Seal {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let busy = render::progress("sealing");
        let trust = self.sealing.carried.trust()?;
        let wish = self.sealing.wish(&trust, self.dry_run);
        let sealed = fleet::seal(&context.global.policy, &wish)?;
        drop(busy);
        Ok(context.fine(&sealed, render::sealed))
    }
}

impl Undo {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let trust = self.sealing.carried.trust()?;
        let report = fleet::undo(&self.sealing.wish(&trust, self.dry_run))?;
        Ok(context.fine(&report, render::undone))
    }
}

impl Verify {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let found = fleet::verify(
            context.home,
            &self.signed.trust(),
            &self.bundle,
            self.by.name().as_ref(),
        )?;
        Ok(context.shown(&found, found.outcome(), render::verified))
    }
}

impl Compare {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        let own = context.global.policy.display().to_string();
        let carrier = self.by.name();
        let side = |name: &str| Side::named(name, carrier.as_ref());
        let busy = render::progress("comparing");
        let first = side(&self.first)?;
        let second = side(self.second.as_ref().unwrap_or(&own))?;
        let compared = fleet::compare(&first, &second, self.all);
        drop(busy);
        Ok(context.shown(&compared, compared.outcome(), render::compared))
    }
}
