//! Whose signatures count, and of which fleet.

use super::carrier::Shelf;
use super::carriers::CarrierName;
use super::packed;
use crate::load::only_ours;
use crate::{Failure, now};
use std::fs;
use std::io::ErrorKind;
use std::path::PathBuf;
use tipstaff_sealed::{Opened, Refusal, Signers, Statement, Unsealed, digest};

/// So many refused ones on top of a good one are looked through; whoever can write at the carrier can put more there,
/// and keep the hosts from what is new, but not have them take anything.
const REFUSED: usize = 16;

/// Whose signatures count, of which fleet, and where its sealed bundles are.
#[derive(Clone, Debug)]
pub struct Trust {
    /// The name of the fleet.
    pub fleet: String,
    /// The file with who may sign.
    pub signers: PathBuf,
    /// The carrier.
    pub carrier: CarrierName,
}

/// A sealed bundle that was accepted.
#[derive(Clone, Debug)]
pub(super) struct Accepted {
    /// What it has.
    pub opened: Opened,
    /// Its digest.
    pub digest: String,
}

impl Accepted {
    /// The hosts of its policy that are called like their sections, in the order written: of one with patterns of other
    /// names it is not known which machines there are until they say something.
    pub(super) fn machines(&self) -> Vec<String> {
        let policy =
            packed::sources(&self.opened.policy).ok().and_then(|it| packed::policy(it).ok());
        let hosts = policy.map(|it| it.hosts).unwrap_or_default();
        hosts.into_iter().filter(|it| it.names.is_empty()).map(|it| it.name).collect()
    }
}

/// The newest one at a carrier that was accepted, and what was refused on the way to it.
#[derive(Debug, Default)]
pub(super) struct Newest {
    /// It; `None` if there is none.
    pub accepted: Option<Accepted>,
    /// What has higher numbers, and why it was refused.
    pub refused: Vec<(u64, Refusal)>,
}

impl Trust {
    /// Refuses a name that no fleet can have.
    pub(super) fn must_have_a_name(&self) -> Result<(), Failure> {
        if Statement::is_name(&self.fleet) {
            return Ok(());
        }
        Err(Failure::usage(
            format!("`{}` cannot be the name of a fleet", self.fleet.escape_debug()),
            "--fleet takes small letters, digits and hyphens, such as tidewater",
        ))
    }

    /// Who may sign; `None` if there is no such file.
    pub(super) fn signers_if_any(&self) -> Result<Option<Signers>, Failure> {
        let shown = self.signers.display();
        let text = match fs::read_to_string(&self.signers) {
            Ok(text) => text,
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(None),
            Err(error) => {
                let message = format!("cannot read who may sign, {shown}: {error}");
                return Err(Failure::usage(message, "--signers names the file"));
            }
        };
        // Whoever may write it lets anybody seal.
        if let Ok(metadata) = fs::metadata(&self.signers) {
            only_ours(&shown.to_string(), &metadata)?;
        }
        let read = Signers::read(&text).map_err(|mistake| {
            let message = format!("{shown}, {mistake}");
            Failure::usage(message, "a line is a name and a public key: duty ssh-ed25519 AAAA...")
        })?;
        Ok(Some(read))
    }

    /// Who may sign.
    pub(super) fn signers(&self) -> Result<Signers, Failure> {
        let shown = self.signers.display();
        let nobody = |what: &str| {
            let message = format!("{what} {shown}, so nobody may seal for this host");
            Failure::usage(
                message,
                "write a line there for each who may: a name, and the public key that ends in .pub; \
                 --signers names another file",
            )
        };
        match self.signers_if_any()? {
            None => Err(nobody("there is no")),
            Some(signers) if signers.is_empty() => Err(nobody("no line is in")),
            Some(signers) => Ok(signers),
        }
    }

    /// Opens what was handed over.
    pub(super) fn open(&self, bytes: &[u8], signers: &Signers) -> Result<Accepted, Refusal> {
        let opened = Unsealed::read(bytes)?.open(signers, &self.fleet, now())?;
        Ok(Accepted { opened, digest: digest(bytes) })
    }

    /// The newest one at the carrier that is accepted.
    pub(super) fn newest(&self, signers: &Signers) -> Result<Newest, Failure> {
        self.newest_until(u64::MAX, signers)
    }

    /// The newest one of a lower number.
    pub(super) fn newest_below(
        &self,
        number: u64,
        signers: &Signers,
    ) -> Result<Option<Accepted>, Failure> {
        Ok(self.newest_until(number - 1, signers)?.accepted)
    }

    fn newest_until(&self, last: u64, signers: &Signers) -> Result<Newest, Failure> {
        let carrier = self.carrier.open()?;
        let mut found = Newest::default();
        let numbers = carrier.numbers(Shelf::Sealed)?.into_iter().filter(|&it| it <= last);
        for number in numbers.take(REFUSED) {
            let Some(bytes) = carrier.read(Shelf::Sealed, number)? else { continue };
            match self.open(&bytes, signers) {
                Ok(accepted) if accepted.opened.statement.sequence == number => {
                    found.accepted = Some(accepted);
                    break;
                }
                Ok(_) => {
                    let why = "its number is not the one that its name has".to_owned();
                    found.refused.push((number, Refusal::NotOne(why)));
                }
                Err(refusal) => found.refused.push((number, refusal)),
            }
        }
        Ok(found)
    }
}
