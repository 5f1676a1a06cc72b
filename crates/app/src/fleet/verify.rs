//! Whether a sealed bundle would be taken, and why not.

use super::carriers::CarrierName;
use super::named::read;
use super::trust::{Accepted, Trust};
use crate::store::{Home, Seen};
use crate::{Failure, Outcome};
use serde::Serialize;
use tipstaff_sealed::{Refusal, Statement, Unsealed, digest};

/// What was found of a sealed bundle.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Verified {
    /// Its file, or how it is named at the carrier.
    pub file: String,
    /// Its digest: SHA-256, in hexadecimal digits.
    pub sha256: String,
    /// Whether this host would take it.
    pub accepted: bool,
    /// Why not; `null` if it would.
    pub refused: Option<Refused>,
    /// What it says of itself, which counts only if it is accepted; `null` if it is none.
    pub statement: Option<Statement>,
    /// The fingerprint of the key by which it is signed, if it is.
    pub key: Option<String>,
    /// Who signed it, as the list of who may calls them; `null` unless it is accepted.
    pub signer: Option<String>,
    /// The highest number that this host has seen of the fleet; `null`: none.
    pub seen: Option<u64>,
}

/// Why a sealed bundle is refused.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Refused {
    /// A word for it that stays.
    pub code: &'static str,
    /// The same, as a sentence.
    pub why: String,
}

impl From<&Refusal> for Refused {
    fn from(refusal: &Refusal) -> Self {
        Self { code: refusal.code(), why: refusal.to_string() }
    }
}

impl Verified {
    /// Whether it would be taken, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.accepted { Outcome::Fine } else { Outcome::Found }
    }
}

/// Looks whether this host would take a sealed bundle: that of a file, of a number at the carrier, or the `newest`
/// there. Nothing is kept of it.
///
/// # Errors
/// [`Failure`] if it, the list of who may sign, or what the host has seen cannot be read.
pub fn verify(
    home: &Home,
    trust: &Trust,
    name: &str,
    carrier: Option<&CarrierName>,
) -> Result<Verified, Failure> {
    trust.must_have_a_name()?;
    let signers = trust.signers()?;
    let seen = Seen::read(home, &trust.fleet)?;
    let bytes = read(name, carrier)?;
    let unsealed = Unsealed::read(&bytes);
    let (statement, key) = match &unsealed {
        Ok(it) => (it.content().ok().map(|it| it.statement), Some(it.key())),
        Err(_) => (None, None),
    };
    let last = seen.as_ref().map(|it| (it.sequence, it.sha256.as_str()));
    let opened = trust.open(&bytes, &signers).and_then(|Accepted { opened, digest }| {
        opened.follows(&digest, last)?;
        Ok(opened)
    });
    let (refused, signer) = match opened {
        Ok(opened) => (None, Some(opened.signer)),
        Err(refusal) => (Some(Refused::from(&refusal)), None),
    };
    Ok(Verified {
        file: name.to_owned(),
        sha256: digest(&bytes),
        accepted: refused.is_none(),
        refused,
        statement,
        key,
        signer,
        seen: seen.map(|it| it.sequence),
    })
}
