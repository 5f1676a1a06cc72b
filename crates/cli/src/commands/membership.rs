//! Which fleet, where what is sealed for it is, and who may sign, as options.

use clap::Args;
use std::path::PathBuf;
use tipstaff_app::Failure;
use tipstaff_app::fleet::Trust;

/// Where who may sign is, unless it is said otherwise.
const SIGNERS: &str = "/etc/tipstaff/signers";

/// Which fleet, and who may sign.
#[derive(Debug, Args)]
pub struct Signed {
    /// The name of the fleet
    #[arg(long, value_name = "NAME", env = "TIPSTAFF_FLEET")]
    fleet: String,
    /// Who may sign: a line for each, a name and a public SSH key
    #[arg(long, value_name = "FILE", env = "TIPSTAFF_SIGNERS", default_value = SIGNERS)]
    signers: PathBuf,
}

/// Likewise, and where what is sealed is.
#[derive(Debug, Args)]
pub struct Carried {
    #[command(flatten)]
    signed: Signed,
    /// The folder by which sealed bundles come to the hosts, and word of them back
    #[arg(long, value_name = "PATH", env = "TIPSTAFF_CARRIER")]
    carrier: PathBuf,
}

/// Likewise, of a host that may be no member.
#[derive(Debug, Args)]
pub struct Membership {
    /// Take what is sealed for the fleet of that name when told to, and say at the carrier how this host stands
    #[arg(long, value_name = "NAME", env = "TIPSTAFF_FLEET", requires = "carrier")]
    fleet: Option<String>,
    /// The folder by which sealed bundles come to the hosts, and word of them back
    #[arg(long, value_name = "PATH", env = "TIPSTAFF_CARRIER")]
    carrier: Option<PathBuf>,
    /// Who may sign: a line for each, a name and a public SSH key
    #[arg(long, value_name = "FILE", env = "TIPSTAFF_SIGNERS", default_value = SIGNERS)]
    signers: PathBuf,
}

impl Signed {
    /// Without a carrier.
    pub fn trust(&self) -> Trust {
        let (fleet, signers) = (self.fleet.clone(), self.signers.clone());
        Trust { fleet, signers, carrier: PathBuf::new() }
    }
}

impl Carried {
    /// All of it.
    pub fn trust(&self) -> Trust {
        Trust { carrier: self.carrier.clone(), ..self.signed.trust() }
    }
}

impl Membership {
    /// All of it, of a member.
    ///
    /// # Errors
    /// [`Failure`] if something is missing.
    pub fn trust(&self) -> Result<Option<Trust>, Failure> {
        let Some(fleet) = self.fleet.clone() else { return Ok(None) };
        let carrier = self.carrier.clone().ok_or_else(|| {
            Failure::usage("a fleet is named, and no carrier", "--carrier names its folder")
        })?;
        Ok(Some(Trust { fleet, signers: self.signers.clone(), carrier }))
    }
}
