//! Entries of the record as rows, alone or put together.

use super::places::Places;
use super::row::{By, Row, moment};
use super::{advice, traffic};
use crate::Loaded;
use crate::vocabulary as say;
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use tipstaff_core::space::{AddressSet, Direction, Family};
use tipstaff_linux::ruleset::{Caller, Wanted, Who};

/// The addresses that an entry is of.
pub(crate) fn addresses(caller: &Caller) -> AddressSet {
    match caller.who {
        Who::Address(it) => AddressSet::single(it),
        Who::Network(it, bits) => network(it, bits),
    }
}

fn network(address: IpAddr, bits: u8) -> AddressSet {
    match address {
        IpAddr::V4(it) => {
            let mask = u32::MAX.checked_shr(bits.into()).unwrap_or(0);
            AddressSet::from_v4([(it.to_bits() & !mask, it.to_bits() | mask)])
        }
        IpAddr::V6(it) => {
            let mask = u128::MAX.checked_shr(bits.into()).unwrap_or(0);
            AddressSet::from_v6([(it.to_bits() & !mask, it.to_bits() | mask)])
        }
    }
}

/// Rows of entries: the last first, or the most frequent where they are put together.
pub(super) fn rows(
    callers: &[&Caller],
    by: Option<By>,
    loaded: Option<&Loaded>,
    now: Timestamp,
) -> Vec<Row> {
    let places = Places::of(loaded.map(|it| &it.policy));
    let mut groups: BTreeMap<Key, Vec<&Caller>> = BTreeMap::new();
    for (at, caller) in callers.iter().enumerate() {
        groups.entry(Key::of(caller, by, at)).or_default().push(caller);
    }
    let mut found: Vec<(u64, Row)> = groups
        .into_iter()
        .map(|(key, list)| {
            let last = list.iter().map(|it| it.last).min().unwrap_or_default();
            (last, row(&key, &list, loaded.filter(|_| by.is_none()), &places, now))
        })
        .collect();
    match by {
        None => found.sort_by_key(|it| it.0),
        Some(_) => found.sort_by(|a, b| b.1.count.cmp(&a.1.count).then(a.0.cmp(&b.0))),
    }
    found.into_iter().map(|it| it.1).collect()
}

/// What entries have in common that are put together.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Key {
    Alone(usize),
    Who(IpAddr, u8),
    Traffic(String),
    Decision(Direction, String, bool),
}

impl Key {
    fn of(caller: &Caller, by: Option<By>, at: usize) -> Self {
        let (address, bits) = match caller.who {
            Who::Address(it) => (it, if it.is_ipv4() { 32 } else { 128 }),
            Who::Network(it, bits) => (it, bits),
        };
        match by {
            None => Self::Alone(at),
            Some(By::Sender) => Self::Who(address, bits),
            Some(By::Network) => {
                let bits = bits.min(if address.is_ipv4() { 24 } else { 64 });
                let first = network(address, bits).first(Family::of(address));
                Self::Who(first.unwrap_or(address), bits)
            }
            Some(By::Port) => Self::Traffic(traffic::term(caller.wanted)),
            Some(By::Rule) => {
                let name = caller.decision.to_string();
                Self::Decision(caller.direction, name, caller.admitted)
            }
        }
    }
}

fn row(
    key: &Key,
    list: &[&Caller],
    advised: Option<&Loaded>,
    places: &Places<'_>,
    now: Timestamp,
) -> Row {
    let all = |of: &dyn Fn(&Caller) -> String| -> Vec<String> {
        let all: BTreeSet<String> = list.iter().map(|it| of(it)).collect();
        all.into_iter().collect()
    };
    let who = |it: &Caller| match it.who {
        Who::Address(it) => it.to_string(),
        Who::Network(it, bits) => format!("{it}/{bits}"),
    };
    let senders = all(&who);
    // By protocol and port, as numbers.
    let kinds: BTreeSet<Wanted> = list.iter().map(|it| it.wanted).collect();
    let mut wanted: Vec<String> = kinds.into_iter().map(traffic::term).collect();
    wanted.dedup();
    let directions: BTreeSet<Direction> = list.iter().map(|it| it.direction).collect();
    let fared: BTreeSet<bool> = list.iter().map(|it| it.admitted).collect();
    let named = match key {
        Key::Who(address, bits) if *bits < if address.is_ipv4() { 32 } else { 128 } => {
            Some(format!("{address}/{bits}"))
        }
        _ => senders.first().filter(|_| senders.len() == 1).cloned(),
    };
    let first = list.iter().map(|it| it.first).collect::<Option<Vec<u64>>>();
    let first = first.and_then(|it| it.into_iter().max());
    let last = list.iter().map(|it| it.last).min().unwrap_or_default();
    let whole: AddressSet = list.iter().map(|it| addresses(it)).collect();
    let one = list.first().filter(|_| list.len() == 1);
    let advice = advised.zip(one).map(|(loaded, it)| advice::of(loaded, it));
    let advice = advice.unwrap_or_default();
    Row {
        direction: directions.first().filter(|_| directions.len() == 1).map(|it| (*it).into()),
        who: named,
        senders: senders.len(),
        places: places.around(&whole),
        service: wanted.first().filter(|_| wanted.len() == 1).and_then(|it| traffic::service(it)),
        traffic: wanted,
        fared: fared.first().filter(|_| fared.len() == 1).map(|it| say::Fared::of(*it)),
        by: all(&|it| it.decision.to_string()),
        count: list.iter().map(|it| it.count).sum(),
        first: first.map(|it| moment(now, it)),
        last: moment(now, last),
        first_seconds_ago: first.map(|it| it / 1_000),
        last_seconds_ago: last / 1_000,
        admit: advice.admit,
        turn_away: advice.turn_away,
    }
}
