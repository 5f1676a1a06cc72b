//! How things stand with all hosts of a fleet.

use super::carrier::Word;
use super::order::{self, Order};
use super::standing::{Standing, Unanswered};
use super::taken::WENT_BACK;
use super::trust::Trust;
use crate::vocabulary as say;
use crate::{Failure, Outcome, now};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use tipstaff_core::policy::Time;

/// A host's clock that differs by more seconds is told of.
const CLOCKS_DIFFER: i64 = 30;

/// How things stand with the hosts of a fleet.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Overview {
    /// The name of the fleet.
    pub fleet: String,
    /// When it was looked (RFC 3339).
    pub at: String,
    /// The number of the newest sealed bundle that counts; `null`: none.
    pub newest: Option<u64>,
    /// The last order; `null`: none.
    pub order: Option<Order>,
    /// The hosts: those that need somebody first, then by name.
    pub hosts: Vec<HostStands>,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
}

/// How things stand with a host.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct HostStands {
    /// The host.
    pub host: String,
    /// In one word.
    pub stands: say::Stands,
    /// The number of the sealed bundle that it should have; `null`: it was told to take none.
    pub should: Option<u64>,
    /// Why it does not stand well, as a sentence; `null` if it does.
    pub why: Option<String>,
    /// How many seconds ago it said how it stands; `null`: never.
    pub heard: Option<u64>,
    /// By how many seconds its clock is ahead of the carrier's, if by more than half a minute; negative: behind.
    pub clock: Option<i64>,
    /// What it said; `null` if it said nothing that can be read.
    pub said: Option<Standing>,
}

impl HostStands {
    /// Whether nobody has to look after it.
    pub fn is_well(&self) -> bool {
        matches!(self.stands, say::Stands::Well | say::Stands::Waits)
    }

    /// The number of the sealed bundle that it has.
    pub fn has(&self) -> Option<u64> {
        Some(self.said.as_ref()?.has.as_ref()?.number)
    }
}

impl Overview {
    /// Whether all hosts are as they should be, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.hosts.iter().all(HostStands::is_well) { Outcome::Fine } else { Outcome::Found }
    }
}

/// How things stand with all hosts of a fleet.
///
/// # Errors
/// [`Failure`] if the carrier or the list of who may sign cannot be read.
pub fn overview(trust: &Trust) -> Result<Overview, Failure> {
    trust.must_have_a_name()?;
    let carrier = trust.carrier.open()?;
    let signers = trust.signers()?;
    let newest = trust.newest(&signers)?;
    let mut remarks: Vec<String> = newest
        .refused
        .iter()
        .map(|(number, why)| format!("number {number} at the carrier does not count: {why}"))
        .collect();
    let order = order::last(&*carrier)?.map(|it| it.1);
    let words: BTreeMap<String, Word> =
        carrier.told()?.into_iter().map(|it| (it.host.clone(), it)).collect();
    let mut names: BTreeSet<String> = words.keys().cloned().collect();
    if let Some(newest) = &newest.accepted {
        names.extend(newest.machines());
    }
    names.extend(order.iter().flat_map(|it| it.hosts.clone()));
    let ordered: BTreeSet<&String> = order.iter().flat_map(|it| &it.hosts).collect();
    let mut hosts: Vec<HostStands> = names
        .into_iter()
        .map(|host| {
            let told = |it: &&Order| it.all || ordered.contains(&host);
            let should = order.as_ref().filter(told).map(|it| it.number);
            let word = words.get(&host);
            stands(trust, host, should, word)
        })
        .collect();
    hosts.sort_by_key(|it| rank(it.stands));
    let newest = newest.accepted.map(|it| it.opened.statement.sequence);
    if let Some(order) = order.as_ref().filter(|it| it.held) {
        remarks.push(match order.why.is_empty() {
            true => "the roll-out is held: no more hosts take it".to_owned(),
            false => format!("the roll-out is held: {}", order.why),
        });
    }
    let at = now().to_string();
    Ok(Overview { fleet: trust.fleet.clone(), at, newest, order, hosts, remarks })
}

/// Those that need somebody come first.
fn rank(stands: say::Stands) -> usize {
    match stands {
        say::Stands::WentBack | say::Stands::Refused => 0,
        say::Stands::Drifted | say::Stands::ChangedHere | say::Stands::Unanswered => 1,
        say::Stands::Silent | say::Stands::NeverHeard => 2,
        say::Stands::Behind => 3,
        say::Stands::Waits => 4,
        say::Stands::Well => 5,
    }
}

/// How things stand with a host, by its last word.
pub(super) fn stands(
    trust: &Trust,
    host: String,
    should: Option<u64>,
    word: Option<&Word>,
) -> HostStands {
    let heard = word.map(|it| it.ago.as_secs());
    let read = word.map(|it| read(trust, it));
    let said = read.as_ref().and_then(|it| it.as_ref().ok()).cloned();
    let (stands, why) = match (&read, &said) {
        (None, _) => match should {
            Some(_) => (say::Stands::NeverHeard, Some("it has never said anything".to_owned())),
            None => (say::Stands::Waits, None),
        },
        (Some(Err(why)), _) => (say::Stands::Silent, Some(why.clone())),
        (_, Some(said)) => judged(said, should, heard.unwrap_or_default()),
        (_, None) => (say::Stands::Silent, None),
    };
    let clock = said.as_ref().zip(word).and_then(|(said, word)| clock(said, word));
    HostStands { host, stands, should, why, heard, clock, said }
}

/// What a host said, if it can be that.
fn read(trust: &Trust, word: &Word) -> Result<Standing, String> {
    let said: Standing = serde_json::from_slice(&word.bytes)
        .map_err(|error| format!("what it said cannot be read: {error}"))?;
    if said.host != word.host || said.fleet != trust.fleet {
        return Err("what is under its name was said by another host, or for another fleet".into());
    }
    Ok(said)
}

fn judged(said: &Standing, should: Option<u64>, heard: u64) -> (say::Stands, Option<String>) {
    if heard > said.again {
        let why = format!("it said it would be heard every {} seconds", said.again);
        return (say::Stands::Silent, Some(why));
    }
    let has = said.has.as_ref().map(|it| it.number);
    let refused = said.refused.as_ref().filter(|it| should == Some(it.number) && has != should);
    if let Some(refused) = refused {
        let word = match refused.code.as_str() {
            WENT_BACK => say::Stands::WentBack,
            "changed-here" => say::Stands::ChangedHere,
            _ => say::Stands::Refused,
        };
        return (word, Some(refused.why.clone()));
    }
    if said.changed_here {
        let why = "its policy was changed on the machine since it was taken".to_owned();
        return (say::Stands::ChangedHere, Some(why));
    }
    if has.is_some() && said.in_force == Some(false) {
        let why = said.drift.clone().unwrap_or_else(|| "its kernel does not hold it".to_owned());
        return (say::Stands::Drifted, Some(why));
    }
    match should {
        Some(number) if has != Some(number) => {
            let why = match has {
                _ if said.trouble.is_some() => said.trouble.clone().unwrap_or_default(),
                Some(has) => format!("it still has number {has}"),
                None => "it has none yet".to_owned(),
            };
            (say::Stands::Behind, Some(why))
        }
        None if has.is_none() => (say::Stands::Waits, None),
        _ if !said.unanswered.is_empty() => {
            let why: Vec<String> = said.unanswered.iter().map(Unanswered::line).collect();
            (say::Stands::Unanswered, Some(why.join("; ")))
        }
        _ => (say::Stands::Well, None),
    }
}

/// How far a host's clock is from that of the carrier.
fn clock(said: &Standing, word: &Word) -> Option<i64> {
    let written = now().seconds() - i64::try_from(word.ago.as_secs()).ok()?;
    let ahead = Time::parse(&said.at)?.seconds() - written;
    (ahead.abs() > CLOCKS_DIFFER).then_some(ahead)
}
