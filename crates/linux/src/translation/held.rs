//! What the kernel holds of others, as far as it bears on where packets go.

use super::guard::Guard;
use super::leads::leads;
use super::older::{Part, part};
use crate::LinuxError;
use crate::ruleset::is_of_ours;
use crate::transport::{Transport, dump};
use std::collections::{BTreeSet, HashMap};
use tipstaff_wire::nf_tables::{
    self as nf, Chain, Expression, FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6, ForeignElement,
    ForeignSet, Hook, MetaKey, Rule, Verdict, foreign_elements, message_kind, set_flags,
};

/// A table, by IP version and name.
pub(crate) type TableName = (u8, String);

/// Chains, rules and sets of others.
#[derive(Clone, Debug, Default)]
pub(crate) struct Others {
    pub chains: Vec<Chain>,
    rules: HashMap<(TableName, String), Vec<Rule>>,
    guards: HashMap<(TableName, String), Vec<Guard>>,
    sets: HashMap<(TableName, String), Held>,
}

impl Others {
    /// Reads chains and rules, if any of the chains is wanted; sets are read where they are needed.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    pub(crate) fn read(
        transport: &mut dyn Transport,
        wanted: fn(&Chain) -> bool,
    ) -> Result<Self, LinuxError> {
        let all = |kind| move |sequence| nf::dump(kind, 0, sequence, |_| {});
        let chains: Vec<Chain> = dump(
            transport,
            "read the kernel's chains",
            all(message_kind::GET_CHAIN),
            Chain::decode,
        )?;
        let of_others = |family: u8, table: &str| {
            [FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6].contains(&family)
                && !(family == FAMILY_INET && is_of_ours(table))
        };
        let chains: Vec<Chain> =
            chains.into_iter().filter(|it| of_others(it.family, &it.table)).collect();
        if !chains.iter().any(wanted) {
            return Ok(Self::default());
        }
        let mut found = Self { chains, ..Self::default() };
        let rules: Vec<Rule> =
            dump(transport, "read the kernel's rules", all(message_kind::GET_RULE), Rule::decode)?;
        for rule in rules.into_iter().filter(|it| of_others(it.family, &it.table)) {
            let place = ((rule.family, rule.table.clone()), rule.chain.clone());
            found.guards.entry(place.clone()).or_default().push(Guard::of(&rule));
            found.rules.entry(place).or_default().push(rule);
        }
        let sets: Vec<ForeignSet> = dump(
            transport,
            "read the kernel's sets",
            all(message_kind::GET_SET),
            ForeignSet::decode,
        )?;
        for set in sets.into_iter().filter(|it| of_others(it.family, &it.table)) {
            let place = ((set.family, set.table.clone()), set.name.clone());
            found.sets.insert(place, Held::of(set));
        }
        Ok(found)
    }

    /// Reads the sets that a chain, and those that it leads to, look into.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    pub(crate) fn fill(
        &mut self,
        transport: &mut dyn Transport,
        table: &TableName,
        chain: &str,
    ) -> Result<(), LinuxError> {
        loop {
            // A map of verdicts may lead to chains that look into others.
            let chains = self.reached(table, chain);
            let rules = chains.iter().flat_map(|it| self.rules(table, it));
            let looked: BTreeSet<String> = rules
                .flat_map(|it| &it.expressions)
                .filter_map(|it| match it {
                    Expression::Lookup { set, .. } | Expression::Find { set, .. } => {
                        Some(set.clone())
                    }
                    _ => None,
                })
                .filter(|it| self.set(table, it).is_some_and(|it| !it.read))
                .collect();
            if looked.is_empty() {
                return Ok(());
            }
            for name in looked {
                if let Some(held) = self.sets.get_mut(&(table.clone(), name)) {
                    held.fill(transport)?;
                }
            }
        }
    }

    /// Whether something in a table writes on packets, or keeps them from being tracked.
    pub(super) fn marks(&self, table: &TableName) -> bool {
        self.any(table, |it| match it {
            Expression::MetaSet { key, .. } => *key == MetaKey::Mark,
            Expression::Other { name, data } if name == "target" => {
                part(name, data, true) != Some(Part::Nothing)
            }
            _ => untracks(it),
        })
    }

    /// Whether something in a table keeps packets from being tracked, or may.
    pub(crate) fn untracks(&self, table: &TableName) -> bool {
        self.any(table, untracks)
    }

    /// Whether something in a table leads packets elsewhere.
    pub(super) fn leads(&self, table: &TableName) -> bool {
        self.any(table, leads)
    }

    fn any(&self, table: &TableName, is: impl Fn(&Expression) -> bool) -> bool {
        let mut rules = self.rules.iter().filter(|it| it.0.0 == *table).flat_map(|it| it.1);
        rules.any(|rule| rule.expressions.iter().any(&is))
    }

    /// The chains of a table that one leads to, itself among them.
    pub(crate) fn reached(&self, table: &TableName, chain: &str) -> BTreeSet<String> {
        let mut reached = BTreeSet::from([chain.to_owned()]);
        let mut todo = vec![chain.to_owned()];
        while let Some(chain) = todo.pop() {
            for expression in self.rules(table, &chain).iter().flat_map(|it| &it.expressions) {
                let led: Vec<&Verdict> = match expression {
                    Expression::Immediate(verdict) => vec![verdict],
                    Expression::Lookup { set, to_verdict: true, .. } => {
                        let held = self.set(table, set);
                        let elements = held.iter().flat_map(|it| &it.elements);
                        elements.filter_map(|it| it.verdict.as_ref()).collect()
                    }
                    _ => Vec::new(),
                };
                for verdict in led {
                    if let Verdict::Jump(to) | Verdict::Goto(to) = verdict
                        && reached.insert(to.clone())
                    {
                        todo.push(to.clone());
                    }
                }
            }
        }
        reached
    }

    /// The rules of a chain, in order.
    pub(crate) fn rules(&self, table: &TableName, chain: &str) -> &[Rule] {
        self.rules.get(&(table.clone(), chain.to_owned())).map_or(&[], Vec::as_slice)
    }

    /// The rules of a chain, in order, with what they surely ask for.
    pub(super) fn guarded(
        &self,
        table: &TableName,
        chain: &str,
    ) -> impl Iterator<Item = (&Guard, &Rule)> {
        let place = (table.clone(), chain.to_owned());
        let guards = self.guards.get(&place).map_or(&[][..], Vec::as_slice);
        guards.iter().zip(self.rules.get(&place).map_or(&[][..], Vec::as_slice))
    }

    /// The sets that have been read, by their tables and names.
    pub(crate) fn sets(&self) -> impl Iterator<Item = (&str, &Held)> {
        self.sets.iter().filter(|it| it.1.read).map(|it| (it.0.1.as_str(), it.1))
    }

    /// A set of a table.
    pub(crate) fn set(&self, table: &TableName, name: &str) -> Option<&Held> {
        self.sets.get(&(table.clone(), name.to_owned()))
    }
}

/// Whether an expression keeps packets from being tracked, or may: of the older form nobody knows.
fn untracks(expression: &Expression) -> bool {
    match expression {
        Expression::Other { name, .. } if name == "notrack" => true,
        Expression::Other { name, data } => name == "target" && part(name, data, true).is_none(),
        _ => false,
    }
}

/// Whether packets come to a chain on their way in, before it is decided where they go.
pub(super) fn is_on_the_way_in(chain: &Chain) -> bool {
    chain.hook.is_some_and(|it| it.number == Hook::PRE_ROUTING)
}

/// A set with what is in it.
#[derive(Clone, Debug, Default)]
pub(crate) struct Held {
    pub set: ForeignSet,
    /// In the order of their keys, ends of intervals ahead of what begins there.
    pub elements: Vec<ForeignElement>,
    read: bool,
    /// Whether elements say themselves how far they reach, or their keys have parts.
    several: bool,
    /// What holds where no other does.
    rest: Option<ForeignElement>,
}

impl Held {
    fn of(set: ForeignSet) -> Self {
        Self { set, ..Self::default() }
    }

    fn fill(&mut self, transport: &mut dyn Transport) -> Result<(), LinuxError> {
        let named = nf::Set {
            table: self.set.table.clone(),
            name: self.set.name.clone(),
            ..nf::Set::default()
        };
        let family = self.set.family;
        let elements = dump(
            transport,
            "read what is in the kernel's sets",
            |sequence| {
                let request = |out: &mut _| named.write_request(out);
                nf::dump(message_kind::GET_ELEMENTS, family, sequence, request)
            },
            foreign_elements,
        )?;
        let (keyed, rest): (Vec<_>, Vec<_>) =
            elements.into_iter().flatten().partition(|it| it.key.is_some());
        (self.elements, self.rest, self.read) = (keyed, rest.into_iter().next(), true);
        self.several = self.set.parts.len() > 1 || self.elements.iter().any(|it| it.last.is_some());
        self.elements.sort_by(|a, b| (&a.key, !a.ends_interval).cmp(&(&b.key, !b.ends_interval)));
        Ok(())
    }

    /// What holds where no other element does.
    pub(crate) fn rest(&self) -> Option<&ForeignElement> {
        self.rest.as_ref()
    }

    /// The element that a key is in, if it is in one.
    pub(super) fn find(&self, key: &[u8]) -> Option<&ForeignElement> {
        let upto = self.elements.partition_point(|it| it.key.as_deref() <= Some(key));
        // What begins last before it, or is it.
        let last = upto.checked_sub(1).and_then(|it| self.elements.get(it));
        let found = if self.set.flags & set_flags::INTERVAL == 0 {
            last.filter(|it| it.key.as_deref() == Some(key))
        } else if self.several {
            self.elements.iter().find(|it| self.is_within(it, key))
        } else {
            last.filter(|it| !it.ends_interval)
        };
        found.or(self.rest.as_ref())
    }

    /// Whether each part of a key lies within an element's.
    fn is_within(&self, element: &ForeignElement, key: &[u8]) -> bool {
        let Some(first) = &element.key else { return false };
        let last = element.last.as_ref().unwrap_or(first);
        let mut at = 0;
        let lengths = match &self.set.parts[..] {
            [] => vec![key.len()],
            parts => parts.iter().map(|it| *it as usize).collect(),
        };
        lengths.into_iter().all(|length| {
            let part = at..at + length;
            at += length.next_multiple_of(4);
            let (Some(key), Some(first), Some(last)) =
                (key.get(part.clone()), first.get(part.clone()), last.get(part))
            else {
                return false;
            };
            first <= key && key <= last
        })
    }
}
