//! `fleet`: one policy for many hosts.

use super::context::Context;
use super::output::Output;
use super::span::moment;
use crate::render;
use clap::{Args, Subcommand};
use std::path::PathBuf;
use tipstaff_app::Failure;
use tipstaff_app::fleet::{self, SealWish, Side, Trust};
use tipstaff_core::policy::Time;

/// What can be done for a fleet.
#[derive(Debug, Subcommand)]
pub enum Fleet {
    /// Seal the policy as it is: pack it, sign it with an SSH key, and put it where the hosts take it from
    Seal(Seal),
    /// Say whether this host would take a sealed bundle, and why not
    Verify(Verify),
    /// Show what a policy or a sealed bundle changes, host by host; those that fare alike together
    Compare(Compare),
}

/// Which fleet, where its sealed bundles are, and who may sign them.
#[derive(Debug, Args)]
pub struct Whose {
    /// The name of the fleet
    #[arg(long, value_name = "NAME", env = "TIPSTAFF_FLEET")]
    fleet: String,
    /// The folder by which sealed bundles come to the hosts
    #[arg(long, value_name = "PATH", env = "TIPSTAFF_CARRIER")]
    carrier: PathBuf,
    /// Who may sign: a line for each, a name and a public SSH key
    #[arg(long, value_name = "FILE", env = "TIPSTAFF_SIGNERS", default_value = SIGNERS)]
    signers: PathBuf,
}

const SIGNERS: &str = "/etc/tipstaff/signers";

impl Whose {
    fn trust(&self) -> Trust {
        Trust {
            fleet: self.fleet.clone(),
            signers: self.signers.clone(),
            carrier: self.carrier.clone(),
        }
    }
}

/// Options of `fleet seal`.
#[derive(Debug, Args)]
pub struct Seal {
    #[command(flatten)]
    whose: Whose,
    /// The SSH key to sign with; its public part (.pub) if an agent holds the key
    #[arg(long, value_name = "FILE")]
    key: PathBuf,
    /// Where the agent listens that holds the key
    #[arg(long, value_name = "SOCKET", env = "SSH_AUTH_SOCK", hide_env_values = true)]
    agent: Option<PathBuf>,
    /// Until when hosts may take it, such as 2099-03-01T18:00:00Z or +30days; for ever if left out
    #[arg(long, value_name = "TIME", value_parser = expiry)]
    expires: Option<Time>,
    /// Tell what would be sealed; seal nothing
    #[arg(long)]
    dry_run: bool,
}

/// Options of `fleet verify`.
#[derive(Debug, Args)]
pub struct Verify {
    /// The sealed bundle
    #[arg(value_name = "FILE")]
    file: PathBuf,
    /// The name of the fleet
    #[arg(long, value_name = "NAME", env = "TIPSTAFF_FLEET")]
    fleet: String,
    /// Who may sign: a line for each, a name and a public SSH key
    #[arg(long, value_name = "FILE", env = "TIPSTAFF_SIGNERS", default_value = SIGNERS)]
    signers: PathBuf,
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
    /// The folder by which sealed bundles come to the hosts
    #[arg(long, value_name = "PATH", env = "TIPSTAFF_CARRIER")]
    carrier: Option<PathBuf>,
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

impl Fleet {
    /// Runs it.
    ///
    /// # Errors
    /// Why it could not do its work.
    pub fn run(&self, context: &Context) -> Result<Output, Failure> {
        match self {
            Self::Seal(it) => it.run(context),
            Self::Verify(it) => it.run(context),
            Self::Compare(it) => it.run(context),
        }
    }
}

impl Seal {
    fn run(&self, context: &Context) -> Result<Output, Failure> {
        let busy = render::progress("sealing");
        let sealed = fleet::seal(&SealWish {
            policy: &context.global.policy,
            trust: &self.whose.trust(),
            key: &self.key,
            agent: self.agent.as_deref(),
            expires: self.expires,
            dry: self.dry_run,
        })?;
        drop(busy);
        Ok(context.fine(&sealed, render::sealed))
    }
}

impl Verify {
    fn run(&self, context: &Context) -> Result<Output, Failure> {
        let trust = Trust {
            fleet: self.fleet.clone(),
            signers: self.signers.clone(),
            carrier: PathBuf::new(),
        };
        let found = fleet::verify(context.home, &trust, &self.file)?;
        Ok(context.shown(&found, found.outcome(), render::verified))
    }
}

impl Compare {
    fn run(&self, context: &Context) -> Result<Output, Failure> {
        let own = context.global.policy.display().to_string();
        let side = |name: &str| Side::named(name, self.carrier.as_deref());
        let busy = render::progress("comparing");
        let first = side(&self.first)?;
        let second = side(self.second.as_ref().unwrap_or(&own))?;
        let compared = fleet::compare(&first, &second, self.all);
        drop(busy);
        Ok(context.shown(&compared, compared.outcome(), render::compared))
    }
}
