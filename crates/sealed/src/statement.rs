//! What a sealed bundle says of itself.

use crate::Refusal;
use serde::{Deserialize, Serialize};
use tipstaff_core::policy::Time;

/// The edition of the form.
const EDITION: u32 = 1;
/// The most bytes of a fleet's name.
const LONGEST: usize = 64;

/// What a sealed bundle says of itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Statement {
    /// The edition of this form; 1.
    pub edition: u32,
    /// The name of the fleet that it is for.
    pub fleet: String,
    /// Its number; each is higher than the one before.
    pub sequence: u64,
    /// When it was sealed (RFC 3339).
    pub sealed: String,
    /// Until when it may be taken (RFC 3339); `null`: for ever.
    pub expires: Option<String>,
    /// The revision of the policy's version control that it was made from; `null`: there is none, or the policy
    /// differs from it.
    pub revision: Option<String>,
    /// The digest of the sealed bundle that came before: SHA-256, in hexadecimal digits; `null`: it is the first.
    pub after: Option<String>,
    /// The hosts of its policy, in the order written.
    pub hosts: Vec<String>,
    /// What it changes for whom, compared with the one before; `null`: it is the first.
    pub changes: Option<Vec<Counts>>,
}

/// How much changes for hosts that all fare alike.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Counts {
    /// The hosts.
    pub hosts: Vec<String>,
    /// In how many ways packets pass that did not.
    pub opens: usize,
    /// In how many ways packets pass no more.
    pub closes: usize,
    /// In how many other ways packets fare differently.
    pub others: usize,
}

impl Statement {
    /// The statement with everything that has to be said; the rest is `None`.
    #[must_use]
    pub fn new(fleet: &str, sequence: u64, sealed: Time, hosts: Vec<String>) -> Self {
        Self {
            edition: EDITION,
            fleet: fleet.to_owned(),
            sequence,
            sealed: sealed.to_string(),
            expires: None,
            revision: None,
            after: None,
            hosts,
            changes: None,
        }
    }

    /// Whether a fleet can have that name: a word of small letters, digits and hyphens, as in a host's name
    /// (RFC 1123 section 2.1).
    #[must_use]
    pub fn is_name(name: &str) -> bool {
        let inner = |byte: u8| byte.is_ascii_lowercase() || byte.is_ascii_digit() || byte == b'-';
        let ends = [name.as_bytes().first(), name.as_bytes().last()];
        name.len() <= LONGEST
            && ends.iter().all(|it| it.is_some_and(|&byte| byte != b'-'))
            && name.bytes().all(inner)
    }

    /// Its bytes: JSON, keys in the order of this type.
    #[must_use]
    pub fn bytes(&self) -> Vec<u8> {
        // A type of texts, numbers and lists has no form that could not be written.
        let mut bytes = serde_json::to_vec_pretty(self).unwrap_or_default();
        bytes.push(b'\n');
        bytes
    }

    /// Reads it.
    ///
    /// # Errors
    /// [`Refusal::NotOne`] if these are not just the bytes that [`Statement::bytes`] writes, or times are none.
    pub fn read(bytes: &[u8]) -> Result<Self, Refusal> {
        let no = |why: &str| Refusal::NotOne(format!("its statement {why}"));
        let read: Self = serde_json::from_slice(bytes)
            .map_err(|error| no(&format!("cannot be read: {error}")))?;
        if read.edition != EDITION {
            return Err(no(&format!(
                "is of edition {}, which this program cannot read",
                read.edition
            )));
        }
        if read.bytes() != bytes {
            return Err(no("has not the form in which statements are written"));
        }
        if !Self::is_name(&read.fleet) || read.sequence == 0 {
            return Err(no("has a fleet or a number that cannot be"));
        }
        if [Some(&read.sealed), read.expires.as_ref()]
            .iter()
            .flatten()
            .any(|it| Time::parse(it).is_none())
        {
            return Err(no("has a time that is none"));
        }
        Ok(read)
    }

    /// Until when it may be taken.
    #[must_use]
    pub fn expires(&self) -> Option<Time> {
        self.expires.as_deref().and_then(Time::parse)
    }
}
