//! Which fleet, where what is sealed for it is, and who may sign, as options.

use clap::Args;
use std::path::PathBuf;
use tipstaff_app::Failure;
use tipstaff_app::fleet::{CarrierName, Trust};

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

/// The carrier, and by which certificates it is spoken to.
#[derive(Debug, Args)]
pub struct By {
    /// How sealed bundles come to the hosts, and word of them back: a folder, one of another machine
    /// (ssh://USER@HOST:PORT/PATH), or etcd+https://MEMBER:PORT,MEMBER:PORT/PREFIX
    #[arg(long, value_name = "PATH|STORE", env = "TIPSTAFF_CARRIER")]
    carrier: Option<String>,
    /// The certificates by which the store is known; those that this system trusts if left out
    #[arg(long, value_name = "FILE", env = "TIPSTAFF_CARRIER_CA")]
    carrier_ca: Option<PathBuf>,
    /// The certificate by which this machine is known to the store
    #[arg(long, value_name = "FILE", env = "TIPSTAFF_CARRIER_CERT", requires = "carrier_key")]
    carrier_cert: Option<PathBuf>,
    /// The key of that certificate
    #[arg(long, value_name = "FILE", env = "TIPSTAFF_CARRIER_KEY", requires = "carrier_cert")]
    carrier_key: Option<PathBuf>,
}

impl By {
    /// The carrier, if one is named.
    pub fn name(&self) -> Option<CarrierName> {
        let (ca, cert, key) =
            (self.carrier_ca.clone(), self.carrier_cert.clone(), self.carrier_key.clone());
        Some(CarrierName { name: self.carrier.clone()?, ca, cert, key })
    }

    fn must_be(&self) -> Result<CarrierName, Failure> {
        self.name().ok_or_else(|| {
            Failure::usage("no carrier is named", "--carrier or TIPSTAFF_CARRIER names it")
        })
    }
}

/// Which fleet, who may sign, and where what is sealed is.
#[derive(Debug, Args)]
pub struct Carried {
    #[command(flatten)]
    signed: Signed,
    #[command(flatten)]
    by: By,
}

/// Likewise, of a host that may be no member.
#[derive(Debug, Args)]
pub struct Membership {
    /// Take what is sealed for the fleet of that name when told to, and say at the carrier how this host stands
    #[arg(long, value_name = "NAME", env = "TIPSTAFF_FLEET")]
    fleet: Option<String>,
    /// Who may sign: a line for each, a name and a public SSH key
    #[arg(long, value_name = "FILE", env = "TIPSTAFF_SIGNERS", default_value = SIGNERS)]
    signers: PathBuf,
    #[command(flatten)]
    by: By,
}

impl Signed {
    /// Without a carrier.
    pub fn trust(&self) -> Trust {
        let (fleet, signers) = (self.fleet.clone(), self.signers.clone());
        Trust { fleet, signers, carrier: CarrierName::default() }
    }
}

impl Carried {
    /// All of it.
    ///
    /// # Errors
    /// [`Failure`] if no carrier is named.
    pub fn trust(&self) -> Result<Trust, Failure> {
        Ok(Trust { carrier: self.by.must_be()?, ..self.signed.trust() })
    }
}

impl Membership {
    /// All of it, of a member.
    ///
    /// # Errors
    /// [`Failure`] if a fleet is named, and no carrier.
    pub fn trust(&self) -> Result<Option<Trust>, Failure> {
        let Some(fleet) = self.fleet.clone() else { return Ok(None) };
        let carrier = self.by.must_be()?;
        Ok(Some(Trust { fleet, signers: self.signers.clone(), carrier }))
    }
}
