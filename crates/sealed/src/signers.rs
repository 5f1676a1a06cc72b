//! Who may sign: a file with a line each.
//!
//! # References
//! ssh-keygen(1), "ALLOWED SIGNERS".

use crate::{NAMESPACE, Refusal, SigningWith};
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use ssh_key::PublicKey;
use ssh_key::public::KeyData;
use std::fmt;
use tipstaff_core::policy::Time;

/// Who may sign.
#[derive(Clone, Debug, Default)]
pub struct Signers {
    lines: Vec<Line>,
}

/// A line that is none.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SignersMistake {
    /// Its number, from 1.
    pub line: usize,
    /// What is wrong with it.
    pub why: String,
}

impl fmt::Display for SignersMistake {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "line {}: {}", self.line, self.why)
    }
}

#[derive(Clone, Debug)]
struct Line {
    principals: String,
    key: KeyData,
    /// What the key may sign; `None`: all.
    namespaces: Option<String>,
    after: Option<Time>,
    before: Option<Time>,
}

impl Signers {
    /// Reads the file's text.
    ///
    /// # Errors
    /// The first line that cannot be read: what cannot be understood must not let anybody sign.
    pub fn read(text: &str) -> Result<Self, SignersMistake> {
        let mut lines = Vec::new();
        for (at, text) in text.lines().enumerate() {
            let text = text.trim();
            if !text.is_empty() && !text.starts_with('#') {
                let line = line(text).map_err(|why| SignersMistake { line: at + 1, why })?;
                lines.push(line);
            }
        }
        Ok(Self { lines })
    }

    /// A list of one, who may sign all.
    #[must_use]
    pub fn only(with: &SigningWith<'_>) -> Self {
        let key = with.public_key().clone();
        let principals = "the own key".to_owned();
        Self { lines: vec![Line { principals, key, namespaces: None, after: None, before: None }] }
    }

    /// Whether that key may sign sealed bundles at that moment.
    ///
    /// # Errors
    /// Why it may not.
    pub fn admits(&self, with: &SigningWith<'_>, now: Time) -> Result<(), Refusal> {
        self.whose(with.public_key(), now).map(|_| ())
    }

    /// Whether nobody may sign.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.lines.is_empty()
    }

    /// Who has that key, if he may sign sealed bundles at that moment.
    ///
    /// # Errors
    /// Why he may not.
    pub(crate) fn whose(&self, key: &KeyData, now: Time) -> Result<&str, Refusal> {
        let mut refused =
            Refusal::NobodyOurs(key.fingerprint(ssh_key::HashAlg::Sha256).to_string());
        for line in self.lines.iter().filter(|it| it.key == *key) {
            match line.may(now) {
                Ok(()) => return Ok(&line.principals),
                Err(why) => refused = why,
            }
        }
        Err(refused)
    }
}

impl Line {
    fn may(&self, now: Time) -> Result<(), Refusal> {
        if let Some(only) = &self.namespaces
            && !only.split(',').any(|it| it == NAMESPACE)
        {
            return Err(Refusal::ForSomethingElse(only.clone()));
        }
        match (self.after, self.before) {
            (Some(after), _) if now < after => Err(Refusal::NotYet(after)),
            (_, Some(before)) if now >= before => Err(Refusal::NoMore(before)),
            _ => Ok(()),
        }
    }
}

fn line(text: &str) -> Result<Line, String> {
    let (principals, rest) = word(text)?;
    let mut rest = rest.trim_start();
    let (mut namespaces, mut after, mut before) = (None, None, None);
    if !is_algorithm(word(rest)?.0) {
        let (options, key) = word(rest)?;
        for option in split(options) {
            let (name, value) = option.split_once('=').unwrap_or((option, ""));
            let value =
                value.strip_prefix('"').and_then(|it| it.strip_suffix('"')).unwrap_or(value);
            match name.to_ascii_lowercase().as_str() {
                "namespaces" => namespaces = Some(value.to_owned()),
                "valid-after" => after = Some(time(value)?),
                "valid-before" => before = Some(time(value)?),
                "cert-authority" => {
                    return Err("keys that certificates vouch for are not understood".into());
                }
                _ => return Err(format!("the option `{}` is not known", name.escape_debug())),
            }
        }
        rest = key.trim_start();
    }
    let key = PublicKey::from_openssh(rest)
        .map_err(|error| format!("its public key cannot be read: {error}"))?;
    let principals = principals.trim_matches('"').to_owned();
    Ok(Line { principals, key: key.key_data().clone(), namespaces, after, before })
}

/// Whether a word is the name of a key's algorithm, so that no options stand ahead of it.
fn is_algorithm(word: &str) -> bool {
    ["ssh-", "ecdsa-", "sk-ssh-", "sk-ecdsa-"].iter().any(|it| word.starts_with(it))
}

/// The first word, in which blanks between quotation marks do not count; and the rest.
fn word(text: &str) -> Result<(&str, &str), String> {
    let mut quoted = false;
    for (at, byte) in text.bytes().enumerate() {
        match byte {
            b'"' => quoted = !quoted,
            b' ' | b'\t' if !quoted => return Ok((&text[..at], &text[at..])),
            _ => {}
        }
    }
    Err(if quoted { "a quotation mark is not closed" } else { "it has no public key" }.to_owned())
}

/// The options, at commas that are not between quotation marks.
fn split(options: &str) -> impl Iterator<Item = &str> {
    let mut quoted = false;
    options.split(move |it| {
        quoted ^= it == '"';
        it == ',' && !quoted
    })
}

/// `YYYYMMDD`, `YYYYMMDDHHMM` or `YYYYMMDDHHMMSS`, with `Z` behind it: without, it is a time where the file was
/// written, which only a machine there knows.
fn time(text: &str) -> Result<Time, String> {
    let wrong =
        || format!("`{}` is no time such as 20270101Z or 202701011800Z", text.escape_debug());
    let digits = text.strip_suffix('Z').ok_or_else(wrong)?;
    let form = match digits.len() {
        8 => "%Y%m%d",
        12 => "%Y%m%d%H%M",
        14 => "%Y%m%d%H%M%S",
        _ => return Err(wrong()),
    };
    let civil = match form {
        "%Y%m%d" => jiff::civil::Date::strptime(form, digits).map(DateTime::from),
        _ => DateTime::strptime(form, digits),
    };
    let zoned = civil.and_then(|it| it.to_zoned(TimeZone::UTC)).map_err(|_| wrong())?;
    Ok(Time::from_seconds(zoned.timestamp().as_second()))
}
