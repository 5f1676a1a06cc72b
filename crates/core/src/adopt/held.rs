//! Rules of others, as far as they are understood.

use crate::policy::Rate;
use crate::program::Test;
use crate::space::{AddressSet, Direction, Family, RangeSet};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

/// What others have of rules that let packets pass or keep them out.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Held {
    /// The chains, by names that tell their tables.
    pub chains: BTreeMap<String, Vec<Row>>,
    /// Where packets enter, in the order in which they come there.
    pub entrances: Vec<Entrance>,
    /// Sets of addresses that have names.
    pub places: Vec<(String, AddressSet)>,
    /// Sets of ports that have names, as far as they may be that: it is not told what numbers are.
    pub ports: Vec<(String, RangeSet<u16>)>,
    /// Whether something keeps packets from being tracked.
    pub untracks: bool,
}

impl Held {
    /// Whether something in a chain, or in those that it leads to, does what is asked for.
    #[must_use]
    pub fn does(&self, chain: &str, is: fn(&Then) -> bool) -> bool {
        let mut seen = BTreeSet::from([chain]);
        let mut todo = vec![chain];
        while let Some(chain) = todo.pop() {
            for way in self.chains.get(chain).into_iter().flatten().flat_map(|it| &it.ways) {
                match &way.then {
                    Then::Jump(to) | Then::Goto(to) if seen.insert(to) => todo.push(to),
                    then if is(then) => return true,
                    _ => {}
                }
            }
        }
        false
    }
}

/// A chain that packets enter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entrance {
    /// Which way they go.
    pub direction: Direction,
    /// Their IP version, if only that of one comes there.
    pub family: Option<Family>,
    /// The chain.
    pub chain: String,
    /// Whether it lets pass what it leaves undecided.
    pub passes: bool,
}

/// Where a row stands.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Place {
    /// The chain; empty if there is none.
    pub chain: String,
    /// Which of its rows, from 1; `None`: what the chain does with what it leaves undecided.
    pub number: Option<usize>,
}

impl fmt::Display for Place {
    /// `sieve/arrivals, rule 7`; `no chain` if there is none.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.number {
            None if self.chain.is_empty() => out.write_str("no chain"),
            Some(number) => write!(out, "{}, rule {number}", self.chain),
            None => write!(out, "{}, its end", self.chain),
        }
    }
}

/// A rule.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Row {
    /// What its owner says of it.
    pub comment: Option<String>,
    /// How many packets it has counted.
    pub packets: Option<u64>,
    /// Whether it reports them.
    pub log: bool,
    /// The rate up to which it holds.
    pub rate: Option<Rate>,
    /// What it asks and does: one of these, or where it looks into a map, one for each entry. No packet fits two.
    pub ways: Vec<Way>,
}

/// What a rule asks of a packet, and does then.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Way {
    /// All of them must hold; those that are [opaque](Test::Opaque) may.
    pub tests: Vec<Test>,
    /// What happens then.
    pub then: Then,
}

/// What a rule does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Then {
    /// Goes on with the next chain that packets enter.
    Accept,
    /// Keeps it out in silence.
    Deny,
    /// Keeps it out and answers.
    Reject,
    /// Goes on in another chain, and comes back.
    Jump(String),
    /// Goes on in another chain instead of this one.
    Goto(String),
    /// Goes back to where the chain was come from.
    Return,
    /// Goes on with the next rule.
    On,
    /// Nobody knows: why, as the rest of a sentence.
    Unknown(String),
}
