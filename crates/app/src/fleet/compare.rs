//! What one policy of a fleet changes in comparison with another, host by host.

use super::carriers::CarrierName;
use super::named::{is_at_carrier, read};
use super::packed;
use crate::effect::{self, Effects};
use crate::threads::Threads;
use crate::vocabulary as say;
use crate::{Failure, Outcome, likely_packet, load_all, now};
use serde::Serialize;
use std::collections::HashMap;
use std::path::Path;
use tipstaff_core::analysis;
use tipstaff_core::hands::Hands;
use tipstaff_core::plan::resolve;
use tipstaff_core::policy::{Policy, Time};
use tipstaff_sealed::{Counts, Unsealed, digest};

/// So many changes of hosts that fare alike are listed, unless all are asked for.
const LISTED: usize = 100;
/// So the names of sealed bundles end.
const ENDING: &str = ".sealed";

/// What changes for the hosts of a fleet.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Compared {
    /// What the one side is, in words.
    pub first: String,
    /// What the other side is, in words.
    pub second: String,
    /// Whether both have the same hosts, and no packet fares differently on any.
    pub equal: bool,
    /// Hosts that only the second side has.
    pub came: Vec<String>,
    /// Hosts that only the first side has.
    pub went: Vec<String>,
    /// Hosts for which nothing changes.
    pub same: Vec<String>,
    /// What changes on the others; those that fare alike are told of together.
    pub changed: Vec<Alike>,
}

/// Hosts that fare alike.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Alike {
    /// The hosts.
    pub hosts: Vec<String>,
    /// What changes; the examples are of the first of them.
    #[serde(flatten)]
    pub found: Effects,
}

impl Compared {
    /// Whether they differ, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.equal { Outcome::Fine } else { Outcome::Found }
    }

    /// How much changes for whom.
    pub(super) fn counts(&self) -> Vec<Counts> {
        let of = |it: &Alike| {
            let opens = it.found.kinds.iter().filter(|it| **it == say::Effect::Opens).count();
            let closes = it.found.kinds.iter().filter(|it| **it == say::Effect::Closes).count();
            let others = it.found.kinds.len() - opens - closes;
            Counts { hosts: it.hosts.clone(), opens, closes, others }
        };
        self.changed.iter().map(of).collect()
    }
}

/// A side of the comparison.
#[derive(Clone, Debug)]
pub struct Side {
    /// What it is, in words.
    pub name: String,
    /// Its policy.
    pub policy: Policy,
}

impl Side {
    /// The side that is named so: the number of a sealed bundle at the carrier, or `newest`; the path of one, if the
    /// name ends in `.sealed`; else that of a policy. Whoever signed it.
    ///
    /// # Errors
    /// [`Failure`] if it cannot be read.
    pub fn named(name: &str, carrier: Option<&CarrierName>) -> Result<Self, Failure> {
        if !is_at_carrier(name) && !name.ends_with(ENDING) {
            let (_, policy, _) = load_all(Path::new(name))?;
            return Ok(Self { name: name.to_owned(), policy });
        }
        Self::sealed(name, &read(name, carrier)?)
    }

    fn sealed(shown: &str, bytes: &[u8]) -> Result<Self, Failure> {
        let no = |why: String| {
            Failure::usage(format!("{shown}: {why}"), "`tipstaff fleet seal` writes them")
        };
        let content = Unsealed::read(bytes).and_then(|it| it.content());
        let content = content.map_err(|refusal| no(refusal.to_string()))?;
        let number = content.statement.sequence;
        let name = format!("number {number} (sha256 {}...)", &digest(bytes)[..12]);
        let sources = packed::sources(&content.policy).map_err(no)?;
        Ok(Self { name, policy: packed::policy(sources)? })
    }
}

/// Compares two policies for all of their hosts; the first changes are told, or `all`.
pub fn compare(first: &Side, second: &Side, all: bool) -> Compared {
    let now = now();
    let names = |side: &Side| -> Vec<String> {
        side.policy.hosts.iter().map(|it| it.name.clone()).collect()
    };
    let (old, new) = (names(first), names(second));
    let is_old: HashMap<&String, ()> = old.iter().map(|it| (it, ())).collect();
    let is_new: HashMap<&String, ()> = new.iter().map(|it| (it, ())).collect();
    let came = new.iter().filter(|it| !is_old.contains_key(it)).cloned().collect();
    let went: Vec<String> = old.iter().filter(|it| !is_new.contains_key(it)).cloned().collect();
    let both: Vec<String> = new.iter().filter(|it| is_old.contains_key(it)).cloned().collect();
    let mut found = of_hosts(first, second, &both, now, all);
    let mut same = Vec::new();
    let mut changed: Vec<Alike> = Vec::new();
    let mut known: HashMap<String, usize> = HashMap::new();
    for (host, effects) in both.into_iter().zip(found.drain(..)) {
        let Some((key, effects)) = effects else {
            same.push(host);
            continue;
        };
        match known.get(&key) {
            Some(&at) => changed[at].hosts.push(host),
            None => {
                known.insert(key, changed.len());
                changed.push(Alike { hosts: vec![host], found: effects });
            }
        }
    }
    // What concerns most hosts comes first.
    changed.sort_by_key(|it| std::cmp::Reverse(it.hosts.len()));
    let came: Vec<String> = came;
    let equal = came.is_empty() && went.is_empty() && changed.is_empty();
    let (first, second) = (first.name.clone(), second.name.clone());
    Compared { first, second, equal, came, went, same, changed }
}

/// What changes on a host, and by what those are known that fare alike; `None`: nothing.
type Found = Option<(String, Effects)>;

/// What changes on each of some hosts, worked out by two at a time.
fn of_hosts(first: &Side, second: &Side, hosts: &[String], now: Time, all: bool) -> Vec<Found> {
    let each = |hosts: &[String]| -> Vec<Found> {
        hosts.iter().map(|it| of_host(&first.policy, &second.policy, it, now, all)).collect()
    };
    let (one, other) = hosts.split_at(hosts.len() / 2);
    let (mut one, other) = Threads.both(|| each(one), || each(other));
    one.extend(other);
    one
}

fn of_host(first: &Policy, second: &Policy, host: &str, now: Time, all: bool) -> Found {
    // Both have a section of that name.
    let (old, new) = (resolve(first, host, now).ok()?, resolve(second, host, now).ok()?);
    let changes = analysis::compare(&old, &new, |direction| likely_packet(direction, &new)).changes;
    if changes.is_empty() {
        return None;
    }
    let kinds: Vec<say::Effect> =
        changes.iter().map(|it| effect::kind(it.before.act, it.after.act)).collect();
    let mut told = effect::in_words(&changes, (first, &old), (second, &new));
    let key = effect::alike(&told);
    if !all {
        told.truncate(LISTED);
    }
    let more_changes = kinds.len() - told.len();
    Some((key, Effects { changes: told, more_changes, changes_known: true, kinds }))
}
