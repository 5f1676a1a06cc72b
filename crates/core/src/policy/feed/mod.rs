//! What files of addresses say: lists, tables and the registries' delegations. Each is taken whole or not at all.

mod column;
mod delegations;
mod doubts;
mod list;

pub use column::column;
pub use delegations::delegations;
pub use doubts::{Counted, Doubt, doubts};
pub use list::list;

use crate::space::{AddressSet, Block, BlockError, address_range};
use std::fmt;

/// A line of a file that is not as it should be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BadLine {
    /// Its number, from 1; 0 where it is about the file as a whole.
    pub line: usize,
    /// What is wrong, as the end of a sentence.
    pub why: String,
}

impl fmt::Display for BadLine {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.line {
            0 => self.why.fmt(out),
            line => write!(out, "line {line} {}", self.why),
        }
    }
}

/// A file of which nothing is taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refused {
    /// The first few lines that are wrong.
    pub first: Vec<BadLine>,
    /// How many there are.
    pub count: usize,
}

/// So many bad lines are told.
const TOLD: usize = 3;

/// What has been found so far.
#[derive(Default)]
struct Found {
    v4: Vec<(u32, u32)>,
    v6: Vec<(u128, u128)>,
    bad: Vec<BadLine>,
    count: usize,
}

impl Found {
    fn bad(&mut self, line: usize, why: String) {
        if self.bad.len() < TOLD {
            self.bad.push(BadLine { line, why });
        }
        self.count += 1;
    }

    /// Takes what a term says: a network, an address or a range.
    fn term(&mut self, line: usize, term: &str) {
        match parse(term) {
            Ok(set) => self.add(&set),
            Err(why) => self.bad(line, format!("says `{}`, {why}", shown(term))),
        }
    }

    fn add(&mut self, set: &AddressSet) {
        self.v4.extend(set.v4.ranges());
        self.v6.extend(set.v6.ranges());
    }

    fn done(self) -> Result<AddressSet, Refused> {
        if self.count > 0 {
            return Err(Refused { first: self.bad, count: self.count });
        }
        Ok(AddressSet::from_v4(self.v4).union(&AddressSet::from_v6(self.v6)))
    }
}

/// What a term stands for, or what is wrong with it.
fn parse(term: &str) -> Result<AddressSet, String> {
    if let Some((first, last)) = term.split_once('-') {
        return address_range(first.trim(), last.trim()).map_err(|_| "which is no range".into());
    }
    Block::parse(term).map(|it| it.addresses()).map_err(|error| match error {
        BlockError::HostBits { network, address } => {
            format!("which may mean {network} or {address}")
        }
        BlockError::NotAnAddress | BlockError::BadPrefix { .. } => "which is no address".into(),
    })
}

/// A part of a file, for people: no longer than fits, and nothing that a terminal would obey.
fn shown(text: &str) -> String {
    const MOST: usize = 40;
    let mut short: String = text.chars().take(MOST).collect();
    if short.len() < text.len() {
        short.push('…');
    }
    short.escape_debug().to_string()
}
