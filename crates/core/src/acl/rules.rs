//! Rules as they come from lists, and how a policy writes them.

use crate::policy::Verdict;
use crate::policy::edit::quoted;
use crate::space::{AddressSet, Direction, Family};
use std::collections::{BTreeSet, HashMap};
use std::fmt::Write;

/// A type of ICMP, and the entry that is about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Typed {
    pub kind: u8,
    pub list: String,
    pub entry: String,
}

/// A rule of a policy in the making.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Rule {
    pub name: String,
    pub verdict: Verdict,
    pub log: bool,
    /// Traffic terms.
    pub traffic: Vec<String>,
    /// Types of ICMP besides, that have not got their names yet.
    pub types: Vec<Typed>,
    /// The ports it is from; all if empty.
    pub source_ports: Vec<String>,
    pub ingress: Option<String>,
    pub egress: Option<String>,
    /// Senders, and receivers: a version of which either has none is not meant.
    pub from: AddressSet,
    pub to: AddressSet,
}

impl Rule {
    /// Whether it takes every packet of an IP version.
    pub(super) fn takes_all(&self, family: Family) -> bool {
        self.traffic == ["any"]
            && self.types.is_empty()
            && self.source_ports.is_empty()
            && self.ingress.is_none()
            && self.egress.is_none()
            && self.from.has_all(family)
            && self.to.has_all(family)
    }

    /// The IP versions that it is about.
    pub(super) fn versions(&self) -> impl Iterator<Item = Family> {
        Family::BOTH.into_iter().filter(|it| self.from.has(*it) && self.to.has(*it))
    }

    /// Whether two say the same of other addresses only.
    pub(super) fn alike(&self, other: &Self) -> bool {
        self.does_as(other) && self.carries_as(other) && self.source_ports == other.source_ports
    }

    /// Whether two do the same with what comes and goes by the same interfaces.
    pub(super) fn does_as(&self, other: &Self) -> bool {
        (self.verdict, self.log) == (other.verdict, other.log)
            && (&self.ingress, &self.egress) == (&other.ingress, &other.egress)
    }

    /// Whether two are about the same traffic.
    pub(super) fn carries_as(&self, other: &Self) -> bool {
        let kinds = |rule: &Self| rule.types.iter().map(|it| it.kind).collect::<Vec<u8>>();
        self.traffic == other.traffic && kinds(self) == kinds(other)
    }

    /// Whether two are about the same senders and receivers.
    pub(super) fn same_ends(&self, other: &Self) -> bool {
        (&self.from, &self.to) == (&other.from, &other.to)
    }

    /// Whether its traffic can be put beside other traffic: a list of terms with exceptions is one by itself.
    pub(super) fn is_plain(&self) -> bool {
        !self.traffic.iter().any(|it| it.starts_with('!'))
    }

    /// Its part of the policy's text.
    pub(super) fn write(&self, host: &str, direction: Direction, out: &mut String) {
        let versions: Vec<Family> = self.versions().collect();
        let of = |set: &AddressSet| {
            versions.iter().fold(AddressSet::empty(), |all, it| all.union(&set.only(*it)))
        };
        let (from, to) = (of(&self.from), of(&self.to));
        let list = |items: &[String]| {
            let items: Vec<String> = items.iter().map(|it| quoted(it)).collect();
            format!("[{}]", items.join(", "))
        };
        // Writing to a text cannot fail.
        let _ = writeln!(out, "\n[[host.{host}.rule]]\nname = {}", quoted(&self.name));
        if direction != Direction::Inbound {
            let _ = writeln!(out, "direction = \"{direction}\"");
        }
        let _ = writeln!(out, "{} = {}", self.verdict.as_str(), list(&self.traffic));
        if !from.is_full() {
            let _ = writeln!(out, "from = {}", list(&terms(&from)));
        }
        // Of a version that no sender has, there are no receivers either.
        if !versions.iter().all(|it| to.has_all(*it)) {
            let _ = writeln!(out, "to = {}", list(&terms(&to)));
        }
        for (key, name) in [("ingress", &self.ingress), ("egress", &self.egress)] {
            if let Some(name) = name {
                let _ = writeln!(out, "{key} = {}", list(std::slice::from_ref(name)));
            }
        }
        if !self.source_ports.is_empty() {
            let _ = writeln!(out, "source-ports = {}", list(&self.source_ports));
        }
        if self.log {
            let _ = writeln!(out, "log = true");
        }
    }
}

/// The addresses of a set, as a policy writes them.
fn terms(set: &AddressSet) -> Vec<String> {
    set.blocks().iter().map(ToString::to_string).collect()
}

/// Names that policies can have, each once.
#[derive(Default)]
pub(super) struct Names {
    taken: BTreeSet<String>,
    /// How many had the same name before.
    numbers: HashMap<String, usize>,
}

impl Names {
    /// The name, or one like it that is free.
    pub(super) fn free(&mut self, name: &str) -> String {
        let name = crate::draft::slug(name, "entry");
        let number = self.numbers.entry(name.clone()).or_default();
        loop {
            *number += 1;
            let free = if *number == 1 { name.clone() } else { format!("{name}-{number}") };
            if self.taken.insert(free.clone()) {
                return free;
            }
        }
    }
}
