//! Sealing a policy folder for a fleet.

use super::carrier::{Put, Shelf};
use super::compare::{Compared, Side, compare};
use super::expectations::expectations;
use super::packed::Files;
use super::trust::{Newest, Trust};
use super::{keys, packed};
use crate::committed::revision;
use crate::{Failure, now};
use serde::Serialize;
use std::path::Path;
use tipstaff_core::policy::{Policy, Time};
use tipstaff_sealed::{Opened, Signers, SigningWith, Statement, digest, seal as seal_bytes};

/// For which fleet it is sealed, with which key, and until when.
#[derive(Clone, Copy, Debug)]
pub struct SealWish<'w> {
    /// For which fleet, and where to.
    pub trust: &'w Trust,
    /// The key, or its public part.
    pub key: &'w Path,
    /// The socket of an agent that may have the key.
    pub agent: Option<&'w Path>,
    /// Until when hosts may take it.
    pub expires: Option<Time>,
    /// Whether it is sealed though what must hold between hosts does not, or is not proven.
    pub even_if_unproven: bool,
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

/// Seals the policy at a path as it is, under the next number.
///
/// # Errors
/// [`Failure`] if it is none, the key cannot be used, or the carrier cannot be read or written; then nothing is there
/// that was not before.
pub fn seal(policy: &Path, wish: &SealWish<'_>) -> Result<Sealed, Failure> {
    wish.trust.must_have_a_name()?;
    let (files, sources) = packed::files(policy)?;
    let own: Vec<_> = sources.iter().filter(|it| it.place.is_none()).cloned().collect();
    let read = packed::policy(sources)?;
    let (key, signers) = key_of(wish)?;
    let before = wish.trust.newest(&signers)?;
    sealed(wish, &key, &before, &What { files, policy: read, revision: revision(policy, &own) })
}

/// Seals once more what was sealed before the newest, under the next number: hosts never go back to a lower one.
///
/// # Errors
/// [`Failure`] as for [`seal`], or if there is none before.
pub fn seal_before(wish: &SealWish<'_>) -> Result<Sealed, Failure> {
    wish.trust.must_have_a_name()?;
    let (key, signers) = key_of(wish)?;
    let newest = wish.trust.newest(&signers)?;
    let number = newest.accepted.as_ref().map(|it| it.opened.statement.sequence);
    let before = number.map_or(Ok(None), |it| wish.trust.newest_below(it, &signers))?;
    let before = before.ok_or_else(|| {
        Failure::usage(
            "nothing was sealed before that could be gone back to",
            "`tipstaff fleet seal` does that",
        )
    })?;
    let Opened { statement, policy: files, .. } = before.opened;
    let sources = packed::sources(&files).map_err(|why| Failure::usage(why, "seal anew"))?;
    let what = What { files, policy: packed::policy(sources)?, revision: statement.revision };
    sealed(wish, &key, &newest, &what)
}

/// What is sealed.
struct What {
    files: Files,
    policy: Policy,
    revision: Option<String>,
}

fn sealed(
    wish: &SealWish<'_>,
    key: &SigningWith<'_>,
    before: &Newest,
    what: &What,
) -> Result<Sealed, Failure> {
    let trust = wish.trust;
    let new = Side { name: String::new(), policy: what.policy.clone() };
    let doubts = expectations(&new, false)?.doubts();
    if !doubts.is_empty() && !wish.even_if_unproven {
        let mut help = vec![
            "nothing was sealed".to_owned(),
            "`tipstaff fleet expectations` shows which decisions say so; --even-if-unproven seals all the same".into(),
        ];
        help.extend(doubts.iter().skip(1).cloned());
        return Err(Failure::stopped(doubts[0].clone(), help));
    }
    let carrier = trust.carrier.open()?;
    let number = carrier.numbers(Shelf::Sealed)?.first().map_or(Some(1), |it| it.checked_add(1));
    let number = number.filter(|&it| it < LAST).ok_or_else(out_of_numbers)?;
    let hosts: Vec<String> = what.policy.hosts.iter().map(|it| it.name.clone()).collect();
    let mut statement = Statement::new(&trust.fleet, number, now(), hosts);
    statement.expires = wish.expires.map(|it| it.to_string());
    statement.revision.clone_from(&what.revision);
    let mut changes = None;
    if let Some(before) = &before.accepted {
        let name = format!("number {}", before.opened.statement.sequence);
        let old = packed::sources(&before.opened.policy);
        let old = old.map_err(|why| Failure::usage(why, "seal anew"));
        let old = Side { name, policy: packed::policy(old?)? };
        let new = Side { name: format!("number {number}"), ..new };
        let compared = compare(&old, &new, false);
        statement.changes = Some(compared.counts());
        statement.after = Some(before.digest.clone());
        changes = Some(compared);
    }
    let mut sealed = Sealed {
        dry: wish.dry,
        place: carrier.place(Shelf::Sealed, number),
        sha256: None,
        bytes: None,
        key: key.fingerprint(),
        statement,
        changes,
        remarks: refused(before).into_iter().chain(doubts).collect(),
    };
    if wish.dry {
        return Ok(sealed);
    }
    let bytes = seal_bytes(&sealed.statement, &what.files, key).map_err(|why| {
        Failure::usage(format!("it could not be sealed: {why}"), "nothing was written")
    })?;
    if carrier.put(Shelf::Sealed, number, &bytes)? == Put::Taken {
        let message = format!("somebody else has just sealed number {number}");
        return Err(Failure::stopped(
            message,
            vec!["look what that changes, and seal anew".into()],
        ));
    }
    sealed.sha256 = Some(digest(&bytes));
    sealed.bytes = Some(bytes.len());
    Ok(sealed)
}

/// The key, and whose earlier ones count.
fn key_of(wish: &SealWish<'_>) -> Result<(SigningWith<'static>, Signers), Failure> {
    if let Some(expires) = wish.expires.filter(|&it| it <= now()) {
        let message = format!("--expires {expires} has been: no host could take it");
        return Err(Failure::usage(message, "name a moment to come, such as +30days"));
    }
    let key = keys::signing_with(wish.key, wish.agent)?;
    let signers = whose(wish.trust, &key)?;
    Ok((key, signers))
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
