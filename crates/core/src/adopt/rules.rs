//! Rules as they come from lists, and how a policy writes them.

use super::held::Place;
use crate::policy::edit::quoted;
use crate::policy::{Rate, Verdict, deceives};
use crate::space::{AddressSet, Direction, Family};
use std::collections::{BTreeSet, HashMap};
use std::fmt::Write;

/// A type of ICMP, and the entry that is about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Typed {
    pub kind: u8,
    pub list: String,
    pub entry: String,
}

/// A rule of others that one stems from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Origin {
    pub place: Place,
    /// What its owner says of it.
    pub comment: Option<String>,
    /// How many packets it has counted.
    pub packets: Option<u64>,
}

/// A rule of a policy in the making.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Rule {
    pub name: String,
    pub verdict: Verdict,
    pub log: bool,
    /// Traffic terms.
    pub traffic: Vec<String>,
    /// Types of ICMP besides, that have not got their names yet.
    pub types: Vec<Typed>,
    /// The ports it is from; all if empty.
    pub source_ports: Vec<String>,
    /// By these interfaces, or by all but one with `!` ahead of it; by any if empty.
    pub ingress: Vec<String>,
    pub egress: Vec<String>,
    /// Senders, and receivers: a version of which either has none is not meant.
    pub from: AddressSet,
    pub to: AddressSet,
    /// Whether senders, and receivers, are the host itself.
    pub own: [Option<bool>; 2],
    /// Up to which rate it lets pass.
    pub rate: Option<Rate>,
    /// What it stems from, if that is not told by its name.
    pub origins: Vec<Origin>,
}

impl Default for Rule {
    fn default() -> Self {
        Self {
            name: String::new(),
            verdict: Verdict::Deny,
            log: false,
            traffic: Vec::new(),
            types: Vec::new(),
            source_ports: Vec::new(),
            ingress: Vec::new(),
            egress: Vec::new(),
            from: AddressSet::full(),
            to: AddressSet::full(),
            own: [None; 2],
            rate: None,
            origins: Vec::new(),
        }
    }
}

impl Rule {
    /// Whether it takes every packet of an IP version.
    pub(crate) fn takes_all(&self, family: Family) -> bool {
        self.traffic == ["any"]
            && self.types.is_empty()
            && self.source_ports.is_empty()
            && self.ingress.is_empty()
            && self.egress.is_empty()
            && self.own == [None; 2]
            && self.from.has_all(family)
            && self.to.has_all(family)
    }

    /// The IP versions that it is about.
    pub(crate) fn versions(&self) -> impl Iterator<Item = Family> {
        Family::BOTH.into_iter().filter(|it| self.from.has(*it) && self.to.has(*it))
    }

    /// Whether two say the same of other addresses only.
    pub(crate) fn alike(&self, other: &Self) -> bool {
        self.does_as(other)
            && self.carries_as(other)
            && (&self.source_ports, self.own) == (&other.source_ports, other.own)
    }

    /// Whether two do the same with what comes and goes by the same interfaces.
    pub(crate) fn does_as(&self, other: &Self) -> bool {
        self.does_so_as(other) && (&self.ingress, &self.egress) == (&other.ingress, &other.egress)
    }

    /// Whether two do the same. A rate is kept by all that stems from one rule together, and by nothing else.
    pub(crate) fn does_so_as(&self, other: &Self) -> bool {
        (self.verdict, self.log, self.rate) == (other.verdict, other.log, other.rate)
            && (self.rate.is_none() || self.origins == other.origins)
            && self.comment() == other.comment()
    }

    /// What an owner said of it.
    fn comment(&self) -> Option<&str> {
        self.origins.iter().find_map(|it| it.comment.as_deref())
    }

    /// Whether two are about the same traffic.
    pub(crate) fn carries_as(&self, other: &Self) -> bool {
        let kinds = |rule: &Self| rule.types.iter().map(|it| it.kind).collect::<Vec<u8>>();
        self.traffic == other.traffic && kinds(self) == kinds(other)
    }

    /// Whether two are about the same senders and receivers.
    pub(crate) fn same_ends(&self, other: &Self) -> bool {
        (&self.from, &self.to, self.own) == (&other.from, &other.to, other.own)
    }

    /// Whether its traffic can be put beside other traffic: a list of terms with exceptions is one by itself.
    pub(crate) fn is_plain(&self) -> bool {
        !self.traffic.iter().any(|it| it.starts_with('!'))
    }

    /// A name for readers: what an owner said of it, or what it does.
    pub(crate) fn suggested(&self) -> String {
        if let Some(comment) = self.comment() {
            return comment.to_owned();
        }
        let what = self.traffic.first().map_or("any", String::as_str);
        let links: Vec<String> = (self.ingress.iter().chain(&self.egress))
            .map(|it| it.strip_prefix('!').map_or(it.clone(), |it| format!("not {it}")))
            .collect();
        let on = if links.is_empty() { "" } else { " on " };
        format!("{} {what}{on}{}", self.verdict.as_str(), links.join(" "))
    }

    /// Its part of the policy's text; sets of addresses that are `places` are written by their names.
    pub(crate) fn write(
        &self,
        host: &str,
        direction: Direction,
        places: &[(String, AddressSet)],
        out: &mut String,
    ) {
        let versions: Vec<Family> = self.versions().collect();
        let of = |set: &AddressSet| {
            versions.iter().fold(AddressSet::empty(), |all, it| all.union(&set.only(*it)))
        };
        let (from, to) = (of(&self.from), of(&self.to));
        out.push('\n');
        let mut remarks: Vec<String> = Vec::new();
        for origin in &self.origins {
            let place = plain(&origin.place);
            let remark = match origin.packets {
                Some(1) => format!("# {place}: 1 packet"),
                Some(packets) => format!("# {place}: {packets} packets"),
                None => format!("# {place}"),
            };
            if !remarks.contains(&remark) {
                remarks.push(remark);
            }
        }
        // Writing to a text cannot fail.
        remarks.iter().for_each(|it| _ = writeln!(out, "{it}"));
        let _ = writeln!(out, "[[host.{host}.rule]]\nname = {}", quoted(&self.name));
        if direction != Direction::Inbound {
            let _ = writeln!(out, "direction = \"{direction}\"");
        }
        let _ = writeln!(out, "{} = {}", self.verdict.as_str(), list(&self.traffic));
        // Of a version that no sender has, there are no receivers either.
        let to_all = versions.iter().all(|it| to.has_all(*it));
        for (key, set, own, all) in
            [("from", &from, self.own[0], from.is_full()), ("to", &to, self.own[1], to_all)]
        {
            let mut words = if all { Vec::new() } else { terms(set, places) };
            words.extend(own.map(|is| if is { "this-host" } else { "!this-host" }.to_owned()));
            if !words.is_empty() {
                let _ = writeln!(out, "{key} = {}", list(&words));
            }
        }
        for (key, names) in [("ingress", &self.ingress), ("egress", &self.egress)] {
            if !names.is_empty() {
                let _ = writeln!(out, "{key} = {}", list(names));
            }
        }
        if !self.source_ports.is_empty() {
            let _ = writeln!(out, "source-ports = {}", list(&self.source_ports));
        }
        if let Some(rate) = self.rate {
            let _ = writeln!(out, "rate = {}", quoted(&rate.to_string()));
        }
        if self.log {
            let _ = writeln!(out, "log = true");
        }
        let mut why: Vec<&str> = Vec::new();
        for comment in self.origins.iter().filter_map(|it| it.comment.as_deref()) {
            if !why.contains(&comment) {
                why.push(comment);
            }
        }
        if !why.is_empty() {
            let _ = writeln!(out, "why = {}", quoted(&why.join("; ")));
        }
    }
}

/// What stands in a remark: nothing that would end it, or that readers would not see.
fn plain(place: &Place) -> String {
    place
        .to_string()
        .chars()
        .map(|it| if it.is_control() || deceives(it) { '?' } else { it })
        .collect()
}

/// A list of texts, as policies write it.
pub(crate) fn list(items: &[String]) -> String {
    let items: Vec<String> = items.iter().map(|it| quoted(it)).collect();
    format!("[{}]", items.join(", "))
}

/// The addresses of a set, as a policy writes them: by the names of places, if there are such for each IP version.
fn terms(set: &AddressSet, places: &[(String, AddressSet)]) -> Vec<String> {
    let named =
        |wanted: &AddressSet| places.iter().find(|it| it.1 == *wanted).map(|it| it.0.clone());
    if let Some(name) = named(set) {
        return vec![name];
    }
    let mut words = Vec::new();
    for family in Family::BOTH {
        let part = set.only(family);
        let all = AddressSet::full().only(family);
        let (blocks, but) = (part.blocks(), all.difference(&part));
        match (named(&part), named(&but)) {
            (Some(name), _) => words.push(name),
            (None, Some(name)) => {
                words.extend(all.blocks().iter().map(ToString::to_string));
                words.push(format!("!{name}"));
            }
            (None, None) if but.blocks().len() + 1 < blocks.len() => {
                words.extend(all.blocks().iter().map(ToString::to_string));
                words.extend(but.blocks().iter().map(|it| format!("!{it}")));
            }
            (None, None) => words.extend(blocks.iter().map(ToString::to_string)),
        }
    }
    words
}

/// Names that policies can have, each once.
#[derive(Default)]
pub(crate) struct Names {
    taken: BTreeSet<String>,
    /// How many had the same name before.
    numbers: HashMap<String, usize>,
}

impl Names {
    /// The name, or one like it that is free.
    pub(crate) fn free(&mut self, name: &str) -> String {
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

/// A host's name as a key of the policy's text.
pub(crate) fn key(host: &str) -> String {
    let bare = |it: char| it.is_ascii_alphanumeric() || "-_".contains(it);
    if !host.is_empty() && host.chars().all(bare) { host.to_owned() } else { quoted(host) }
}
