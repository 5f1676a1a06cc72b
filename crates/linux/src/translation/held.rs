//! What the kernel holds of others, as far as it bears on where packets go.

use crate::LinuxError;
use crate::ruleset::is_of_ours;
use crate::transport::{Transport, dump};
use std::collections::HashMap;
use tipstaff_wire::nf_tables::{
    self as nf, Chain, FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6, ForeignElement, ForeignSet, Rule,
    foreign_elements, message_kind, set_flags,
};

/// A table, by IP version and name.
pub(super) type TableName = (u8, String);

/// A set with what is in it.
#[derive(Clone, Debug, Default)]
pub(super) struct Held {
    pub set: ForeignSet,
    pub elements: Vec<ForeignElement>,
}

/// Chains, rules and sets of others.
#[derive(Clone, Debug, Default)]
pub(super) struct Others {
    pub chains: Vec<Chain>,
    rules: HashMap<(TableName, String), Vec<Rule>>,
    sets: HashMap<(TableName, String), Held>,
}

impl Others {
    /// Reads them.
    ///
    /// # Errors
    /// [`LinuxError`] if the kernel does not let us read.
    pub(super) fn read(transport: &mut dyn Transport) -> Result<Self, LinuxError> {
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
        let mut found = Self {
            chains: chains.into_iter().filter(|it| of_others(it.family, &it.table)).collect(),
            ..Self::default()
        };
        if found.chains.iter().all(|it| it.hook.is_none()) {
            return Ok(found);
        }
        let rules: Vec<Rule> =
            dump(transport, "read the kernel's rules", all(message_kind::GET_RULE), Rule::decode)?;
        for rule in rules.into_iter().filter(|it| of_others(it.family, &it.table)) {
            let place = ((rule.family, rule.table.clone()), rule.chain.clone());
            found.rules.entry(place).or_default().push(rule);
        }
        let sets: Vec<ForeignSet> = dump(
            transport,
            "read the kernel's sets",
            all(message_kind::GET_SET),
            ForeignSet::decode,
        )?;
        for set in sets.into_iter().filter(|it| of_others(it.family, &it.table)) {
            let elements = dump(
                transport,
                "read what is in the kernel's sets",
                |sequence| {
                    nf::dump(message_kind::GET_ELEMENTS, set.family, sequence, |out| {
                        nf::Set {
                            table: set.table.clone(),
                            name: set.name.clone(),
                            ..nf::Set::default()
                        }
                        .write_request(out);
                    })
                },
                |body| foreign_elements(body).map(|it| it.1),
            )?;
            let place = ((set.family, set.table.clone()), set.name.clone());
            found
                .sets
                .insert(place, Held { set, elements: elements.into_iter().flatten().collect() });
        }
        Ok(found)
    }

    /// The rules of a chain, in order.
    pub(super) fn rules(&self, table: &TableName, chain: &str) -> &[Rule] {
        self.rules.get(&(table.clone(), chain.to_owned())).map_or(&[], Vec::as_slice)
    }

    /// A set of a table.
    pub(super) fn set(&self, table: &TableName, name: &str) -> Option<&Held> {
        self.sets.get(&(table.clone(), name.to_owned()))
    }
}

impl Held {
    /// The element that a key is in, if it is in one.
    pub(super) fn find(&self, key: &[u8]) -> Option<&ForeignElement> {
        let all = || self.elements.iter().find(|it| it.key.is_none());
        let found = if self.set.flags & set_flags::INTERVAL == 0 {
            self.elements.iter().find(|it| it.key.as_deref() == Some(key))
        } else if self.elements.iter().any(|it| it.last.is_some()) || self.set.parts.len() > 1 {
            self.elements.iter().find(|it| self.is_within(it, key))
        } else {
            // What begins last before it: it is in that, unless that is an end.
            let before =
                self.elements.iter().filter(|it| it.key.as_deref().is_some_and(|it| it <= key));
            let last =
                before.max_by(|a, b| (&a.key, !a.ends_interval).cmp(&(&b.key, !b.ends_interval)));
            last.filter(|it| !it.ends_interval)
        };
        found.or_else(all)
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
