//! Entries of the docket, and the lines that they are written as.
//!
//! Each line ends with a sum over what is before it, so that a damaged line is noticed rather than
//! taken for another truth.

use super::posture::{InPosture, Situation};
use super::sum;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// What an entry is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// A policy was enforced.
    Enforce,
    /// An earlier entry was enforced again.
    Revert,
    /// The confirmed policy was loaded at boot.
    Boot,
    /// The rules were taken out.
    Release,
    /// A posture of the policy was taken.
    Take,
    /// A posture was left, or ended by itself.
    Leave,
    /// Files of places were read anew, and what they say now was put in force.
    Refresh,
}

/// What became of an entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// It was about to be done: whoever wrote that did not come to say more.
    Intended,
    /// The kernel refused it, or something else went wrong; nothing was changed.
    Failed,
    /// It is in force, and goes by itself unless it is confirmed.
    Pending,
    /// It was confirmed, or meant to stay from the beginning.
    Confirmed,
    /// It went, since it was not confirmed or since somebody went back.
    Reverted,
}

/// One change of the rules, as the docket holds it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Entry {
    /// Its number, from 1.
    pub id: u64,
    /// When it was made (RFC 3339).
    pub time: String,
    /// What it is about.
    pub kind: Kind,
    /// The host of the policy.
    pub host: Option<String>,
    /// The user who did it, and the user behind a privilege switch.
    pub user: String,
    /// Who logged in, if that is somebody else.
    pub login: Option<String>,
    /// From where, if by a remote shell.
    pub from: Option<String>,
    /// The digest of the policy, by which it is kept.
    pub policy: Option<String>,
    /// The entry that it goes back to.
    pub of: Option<u64>,
    /// A digest of the rules that the policy was worked out to: who finds these in the kernel has found what the policy
    /// means, however it would be worked out today. None where that depends on where the machine is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rules: Option<String>,
    /// What it changed for packets, in a few words.
    pub effect: String,
    /// Where the remote shell of its host listens, as traffic terms.
    #[serde(default)]
    pub shell: Vec<String>,
    /// Whether everything is to pass if it cannot be loaded at boot.
    #[serde(default)]
    pub open_on_failure: bool,
    /// Whether its rules for programs were left out.
    #[serde(default)]
    pub without_programs: bool,
    /// Whether its rules follow interfaces when they are renamed, or the networks that the machine is on.
    #[serde(default)]
    pub follows: bool,
    /// Whether postures of it hold by themselves, by where the machine is.
    #[serde(default)]
    pub by_place: bool,
    /// Whether it is to be confirmed before it stays.
    #[serde(default)]
    pub waits: bool,
    /// The posture in which it is; `null`: in none.
    #[serde(default)]
    pub posture: Option<InPosture>,
    /// The boot in which it was made; `null` in a file of before that was written.
    #[serde(default)]
    pub boot: Option<String>,
    /// What spoke against it and was overruled: `locked-out`, `not-this-machine`.
    #[serde(default)]
    pub despite: Vec<String>,
    /// What became of it.
    pub state: State,
    /// When it came to be so.
    pub since: String,
}

/// What a line of the docket says.
#[derive(Clone, Debug, Serialize)]
#[serde(untagged)]
pub(super) enum Event {
    /// A change that was made.
    Made(Box<Entry>),
    /// What became of one.
    Became(Became),
}

/// What became of an entry.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Became {
    /// The number of the entry that it is about.
    pub id: u64,
    /// What it is now.
    pub became: State,
    /// When that was, in UTC.
    pub time: String,
}

impl Entry {
    /// The posture that it is in, and the boot in which it was made.
    pub fn situation(&self) -> Situation {
        Situation { posture: self.posture.clone(), boot: self.boot.clone() }
    }
}

const SUM: &str = ",\"sum\":\"";
const DIGITS: usize = 16;

/// A value as a line with its sum, the line's end included.
pub(super) fn line(value: &impl Serialize) -> Vec<u8> {
    let mut text = serde_json::to_string(value).unwrap_or_default();
    // The brace goes behind the sum.
    text.pop();
    let sum = short_sum(text.as_bytes());
    format!("{text}{SUM}{sum}\"}}\n").into_bytes()
}

/// The value of a line, if the line is what it was when it was written; says why not otherwise.
/// Lines of before there were sums have none.
pub(super) fn value(line: &[u8]) -> Result<Value, &'static str> {
    let text = std::str::from_utf8(line).map_err(|_| "is not UTF-8 text")?;
    let text = text.trim_end();
    let Some((body, end)) = text.rsplit_once(SUM) else {
        return serde_json::from_str(text).map_err(|_| "cannot be read");
    };
    if end.len() != DIGITS + 2 || end.get(..DIGITS) != Some(&short_sum(body.as_bytes())) {
        return Err("is not what it was: its sum does not fit");
    }
    serde_json::from_str(&format!("{body}}}")).map_err(|_| "cannot be read")
}

/// What a line of the docket says.
pub(super) fn event(line: &[u8]) -> Result<Event, &'static str> {
    let value = value(line)?;
    let became = value.get("became").is_some();
    let event = match became {
        true => serde_json::from_value(value).map(Event::Became),
        false => serde_json::from_value(value).map(Event::Made),
    };
    event.map_err(|_| "cannot be read")
}

fn short_sum(bytes: &[u8]) -> String {
    let mut sum = sum(bytes);
    sum.truncate(DIGITS);
    sum
}
