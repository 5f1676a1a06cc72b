//! What registries say: which addresses were delegated to whom in which country.

use super::{BadLine, Found, Refused, shown};
use crate::space::AddressSet;
use std::collections::{BTreeMap, BTreeSet};
use std::net::{Ipv4Addr, Ipv6Addr};

/// What sorts of records there are.
const SORTS: [&str; 3] = ["asn", "ipv4", "ipv6"];
/// Whose state gives addresses to a country.
const DELEGATED: [&str; 2] = ["allocated", "assigned"];
/// All states; a word that was cut off is none.
const STATES: [&str; 4] = ["allocated", "assigned", "available", "reserved"];

/// Reads the addresses that were allocated or assigned to any of those countries. The file tells how many records
/// it has: if there are fewer or more, it is not whole.
///
/// # Errors
/// Which lines are none, or that it is not whole.
///
/// # References
/// The registries' exchange format, extended: a head `2|registry|serial|records|first|last|offset`, summaries
/// `registry|*|type|*|count|summary`, and records `registry|cc|type|start|value|date|status|…`. The value is a
/// number of addresses for `ipv4`, the length of the prefix for `ipv6`.
pub fn delegations(text: &str, countries: &[String]) -> Result<AddressSet, Refused> {
    let wanted: BTreeSet<&str> = countries.iter().map(String::as_str).collect();
    let mut found = Found::default();
    let (mut told, mut counted) = (None, BTreeMap::new());
    let mut summaries: Vec<(&str, usize)> = Vec::new();
    for (at, line) in text.lines().enumerate() {
        let number = at + 1;
        let line = line.trim_end();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let fields: Vec<&str> = line.split('|').collect();
        if told.is_none() {
            match (&fields[..], fields.get(3).and_then(|it| it.parse::<usize>().ok())) {
                (["2" | "2.3", _, _, _, _, _, _], Some(records)) => told = Some(records),
                _ => {
                    let why = format!("is no head of a delegation file: `{}`", shown(line));
                    return Err(Refused { first: vec![BadLine { line: number, why }], count: 1 });
                }
            }
            continue;
        }
        match fields[..] {
            [_, "*", sort, "*", count, "summary"] if SORTS.contains(&sort) => match count.parse() {
                Ok(count) => summaries.push((sort, count)),
                Err(_) => found.bad(number, format!("counts no records: `{}`", shown(line))),
            },
            [_, country, sort, start, value, _, status, ..]
                if SORTS.contains(&sort) && STATES.contains(&status) =>
            {
                *counted.entry(sort).or_insert(0) += 1;
                match range(sort, start, value) {
                    None => found.bad(number, format!("is no record: `{}`", shown(line))),
                    Some(set) if wanted.contains(country) && DELEGATED.contains(&status) => {
                        found.add(&set);
                    }
                    Some(_) => {}
                }
            }
            _ => found.bad(number, format!("is no record: `{}`", shown(line))),
        }
    }
    let records: usize = counted.values().sum();
    let there = |sort: &str| counted.get(sort).copied().unwrap_or(0);
    // Not every registry counts the same in the head; its summaries it counts well.
    let by_summaries = !summaries.is_empty() && summaries.iter().all(|it| it.1 == there(it.0));
    match told {
        None => found.bad(0, "it is empty".into()),
        Some(told) if told != records && !by_summaries => {
            found.bad(
                0,
                format!("it should have {told} records, and has {records}: it is not whole"),
            );
        }
        Some(_) => {}
    }
    found.done()
}

/// The addresses of a record; none of one that is about numbers of networks.
fn range(sort: &str, start: &str, value: &str) -> Option<AddressSet> {
    match sort {
        "ipv4" => {
            let first = start.parse::<Ipv4Addr>().ok()?.to_bits();
            let more = value.parse::<u32>().ok()?.checked_sub(1)?;
            Some(AddressSet::from_v4([(first, first.checked_add(more)?)]))
        }
        "ipv6" => {
            let first = start.parse::<Ipv6Addr>().ok()?.to_bits();
            let length: u32 = value.parse().ok().filter(|it| (1..=128).contains(it))?;
            let hosts = if length == 128 { 0 } else { u128::MAX >> length };
            (first & hosts == 0).then(|| AddressSet::from_v6([(first, first | hosts)]))
        }
        _ => value.parse::<u32>().ok().map(|_| AddressSet::empty()),
    }
}
