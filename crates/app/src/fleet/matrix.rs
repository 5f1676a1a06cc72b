//! Who reaches whom with some traffic.

use super::between_hosts::{Hosts, in_two, places, traffic};
use super::compare::Side;
use crate::Failure;
use crate::vocabulary as say;
use serde::Serialize;
use std::collections::HashMap;
use tipstaff_core::analysis::{HostWord, Met};
use tipstaff_core::policy::Verdict;

/// Who reaches whom.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Matrix {
    /// The traffic, as it was asked for.
    pub traffic: String,
    /// How many hosts it is about.
    pub hosts: usize,
    /// From whom to whom; senders that reach the same hosts are told of together.
    pub rows: Vec<Row>,
    /// Hosts that are left out, since their addresses are not listed.
    pub without_addresses: Vec<String>,
}

/// Senders that reach the same hosts.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Row {
    /// The senders.
    pub from: Vec<String>,
    /// Whom they reach.
    pub yes: Vec<String>,
    /// Whom they reach with some packets only: of one IP version, by one interface, up to a rate is whole.
    pub in_part: Vec<String>,
    /// Whom they do not reach.
    pub no: Vec<String>,
}

/// How much of it arrives.
pub(super) fn reaches(met: &Met) -> say::Reaches {
    match met.of(Verdict::Allow) {
        None => say::Reaches::No,
        Some(_) if met.all(Verdict::Allow) => say::Reaches::Yes,
        Some(_) => say::Reaches::InPart,
    }
}

/// Who reaches whom with some traffic, by the routes of the policy; among addresses in some places, or all.
///
/// # Errors
/// [`Failure`] if the traffic cannot be read, or a host's word has too many parts.
pub fn matrix(side: &Side, text: &str, within: &[String]) -> Result<Matrix, Failure> {
    let within = places(side, within)?;
    let traffic = traffic(side, text)?;
    let hosts = Hosts::of(side)?;
    let asked = hosts.asked(&traffic, within.as_ref())?;
    let words = &asked.words;
    let lines = in_two(words, |from| -> Vec<say::Reaches> {
        words.iter().map(|to| reaches(&asked.met(from, to))).collect()
    });
    let mut rows: Vec<Row> = Vec::new();
    let mut at: HashMap<Vec<say::Reaches>, usize> = HashMap::new();
    for (word, line) in words.iter().zip(lines) {
        match at.get(&line) {
            Some(&row) => rows[row].from.push(word.host.clone()),
            None => {
                rows.push(row(word, words, &line));
                at.insert(line, rows.len() - 1);
            }
        }
    }
    // Whether somebody reaches himself says nothing.
    for row in &mut rows {
        if let [only] = &row.from[..] {
            for list in [&mut row.yes, &mut row.in_part, &mut row.no] {
                list.retain(|it| it != only);
            }
        }
    }
    let (hosts, mut without_addresses) = (words.len(), hosts.without_addresses);
    // Whoever has none there is no pair with anybody.
    let without = |it: &&HostWord| it.own.is_empty();
    without_addresses.extend(words.iter().filter(without).map(|it| it.host.clone()));
    let hosts = hosts - words.iter().filter(without).count();
    Ok(Matrix { traffic: text.to_owned(), hosts, rows, without_addresses })
}

fn row(from: &HostWord, words: &[HostWord], line: &[say::Reaches]) -> Row {
    let who = |reaches: say::Reaches| -> Vec<String> {
        let those = words.iter().zip(line).filter(|it| *it.1 == reaches);
        those.map(|it| it.0.host.clone()).collect()
    };
    let (yes, in_part, no) =
        (who(say::Reaches::Yes), who(say::Reaches::InPart), who(say::Reaches::No));
    Row { from: vec![from.host.clone()], yes, in_part, no }
}
