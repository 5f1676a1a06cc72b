//! Sealing a policy folder for a fleet.

use super::carrier::{Carrier, Put, named};
use super::compare::{Compared, Side, compare};
use super::trust::{Newest, Trust};
use super::{keys, packed};
use crate::committed::revision;
use crate::{Failure, now};
use serde::Serialize;
use std::path::Path;
use tipstaff_core::policy::Time;
use tipstaff_sealed::{Signers, SigningWith, Statement, digest, seal as seal_bytes};

/// What is to be sealed, and how.
#[derive(Clone, Copy, Debug)]
pub struct SealWish<'w> {
    /// The file or folder of the policy.
    pub policy: &'w Path,
    /// For which fleet, and where to.
    pub trust: &'w Trust,
    /// The key, or its public part.
    pub key: &'w Path,
    /// The socket of an agent that may have the key.
    pub agent: Option<&'w Path>,
    /// Until when hosts may take it.
    pub expires: Option<Time>,
    /// Whether it is only told what would be sealed.
    pub dry: bool,
}

/// What was sealed.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Sealed {
    /// Whether that was only told.
    pub dry: bool,
    /// Where it is.
    pub place: String,
    /// Its digest: SHA-256, in hexadecimal digits; `null` if it was only told.
    pub sha256: Option<String>,
    /// How many bytes it has; `null` if it was only told.
    pub bytes: Option<usize>,
    /// The fingerprint of the key that signed it.
    pub key: String,
    /// What it says of itself.
    pub statement: Statement,
    /// What it changes, compared with the one before; `null`: there is none that counts.
    pub changes: Option<Compared>,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
}

/// Seals the policy as it is, under the next number.
///
/// # Errors
/// [`Failure`] if it is none, the key cannot be used, or the carrier cannot be read or written; then nothing is there
/// that was not before.
pub fn seal(wish: &SealWish<'_>) -> Result<Sealed, Failure> {
    let trust = wish.trust;
    trust.must_have_a_name()?;
    let (files, sources) = packed::files(wish.policy)?;
    let own: Vec<_> = sources.iter().filter(|it| it.place.is_none()).cloned().collect();
    let policy = packed::policy(sources)?;
    if let Some(expires) = wish.expires.filter(|&it| it <= now()) {
        let message = format!("--expires {expires} has been: no host could take it");
        return Err(Failure::usage(message, "name a moment to come, such as +30days"));
    }
    let key = keys::signing_with(wish.key, wish.agent)?;
    let signers = whose(trust, &key)?;
    let carrier = named(&trust.carrier);
    let number = carrier.numbers()?.first().map_or(Some(1), |it| it.checked_add(1));
    let number = number.filter(|&it| it < LAST).ok_or_else(out_of_numbers)?;
    let before = trust.newest(&signers)?;
    let remarks = refused(&before);
    let hosts: Vec<String> = policy.hosts.iter().map(|it| it.name.clone()).collect();
    let mut statement = Statement::new(&trust.fleet, number, now(), hosts);
    statement.expires = wish.expires.map(|it| it.to_string());
    statement.revision = revision(wish.policy, &own);
    let mut changes = None;
    if let Some(before) = before.accepted {
        let name = format!("number {}", before.opened.statement.sequence);
        let old =
            packed::sources(&before.opened.policy).map_err(|why| Failure::usage(why, "seal anew"));
        let old = Side { name, policy: packed::policy(old?)? };
        let new = Side { name: format!("number {number}"), policy };
        let compared = compare(&old, &new, false);
        statement.changes = Some(compared.counts());
        statement.after = Some(before.digest);
        changes = Some(compared);
    }
    let mut sealed = Sealed {
        dry: wish.dry,
        place: carrier.place(number),
        sha256: None,
        bytes: None,
        key: key.fingerprint(),
        statement,
        changes,
        remarks,
    };
    if wish.dry {
        return Ok(sealed);
    }
    let bytes = seal_bytes(&sealed.statement, &files, &key).map_err(|why| {
        Failure::usage(format!("it could not be sealed: {why}"), "nothing was written")
    })?;
    match carrier.put(number, &bytes)? {
        Put::Done => {}
        Put::Taken => {
            let message = format!("somebody else has just sealed number {number}");
            return Err(Failure::stopped(
                message,
                vec!["look what that changes, and seal anew".into()],
            ));
        }
    }
    sealed.sha256 = Some(digest(&bytes));
    sealed.bytes = Some(bytes.len());
    Ok(sealed)
}

/// Numbers have so many digits where their order is that of their names.
const LAST: u64 = 1_000_000_000_000;

fn out_of_numbers() -> Failure {
    Failure::stopped(
        "the carrier has a sealed bundle of the last number there can be",
        vec!["nobody seals so many: remove it, and look who could write there".into()],
    )
}

/// Whose earlier ones count. Where no list is, the own key is it; where one is, it must have the key, or no host with that
/// list would take what is sealed.
fn whose(trust: &Trust, key: &SigningWith<'_>) -> Result<Signers, Failure> {
    let Some(signers) = trust.signers_if_any()? else { return Ok(Signers::only(key)) };
    signers.admits(key, now()).map_err(|why| {
        let message =
            format!("hosts with the list {} would refuse it: {why}", trust.signers.display());
        Failure::stopped(
            message,
            vec!["nothing was sealed".into(), "--signers names the list of the hosts".into()],
        )
    })?;
    Ok(signers)
}

/// What was not counted.
fn refused(before: &Newest) -> Vec<String> {
    let remark = |it: &(u64, _)| format!("number {} at the carrier does not count: {}", it.0, it.1);
    before.refused.iter().map(remark).collect()
}
