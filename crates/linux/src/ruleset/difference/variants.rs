//! What sets are called in the kernel: one that takes the place of another has to have another name.

use super::super::encode::{Parts, SetPart};
use super::super::names::{OTHER, TABLE, plain, set_of_mut};
use super::change::Change;
use crate::LinuxError;
use crate::transport::{Transport, dump};
use std::collections::{HashMap, HashSet};
use tipstaff_wire::nf_tables::{Chain, FAMILY_INET, Rule, Set, dump as ask, message_kind};

const READING: &str = "read what rules and sets there are";
/// What the sets of a program are called in the kernel.
#[derive(Clone, Debug, Default)]
pub(super) struct Names(HashMap<String, String>);

impl Names {
    /// The names of the sets that there are, if they and the chains are those of `parts`.
    pub(super) fn read(
        transport: &mut dyn Transport,
        parts: &Parts,
    ) -> Result<Option<Self>, LinuxError> {
        let (chains, sets) = all(transport)?;
        let chains: HashSet<&str> = chains.iter().map(|it| it.name.as_str()).collect();
        let names: HashMap<String, String> =
            sets.iter().map(|it| (plain(&it.name).to_owned(), it.name.clone())).collect();
        let same = names.len() == sets.len()
            && names.len() == parts.sets.len()
            && chains.len() == parts.chains.len()
            && parts.sets.keys().all(|it| names.contains_key(it))
            && parts.chains.keys().all(|it| chains.contains(it.as_str()));
        Ok(same.then_some(Self(names)))
    }

    /// What they are called behind a change.
    pub(super) fn behind(&self, change: &Change<'_>) -> Self {
        let mut names = self.clone();
        for part in &change.gone_sets {
            names.0.remove(&part.set.name);
        }
        for part in &change.new_sets {
            let name = &part.set.name;
            let taken = self.0.get(name).is_some_and(|it| it == name);
            let new = if taken { format!("{name}{OTHER}") } else { name.clone() };
            names.0.insert(name.clone(), new);
        }
        names
    }

    fn of<'n>(&'n self, name: &'n str) -> &'n str {
        self.0.get(name).map_or(name, String::as_str)
    }

    /// The set as it is called.
    pub(super) fn set(&self, part: &SetPart) -> Set {
        Set { name: self.of(&part.set.name).to_owned(), ..part.set.clone() }
    }

    /// The rule with the sets as they are called.
    pub(super) fn rule(&self, mut rule: Rule) -> Rule {
        for step in &mut rule.expressions {
            if let Some(set) = set_of_mut(step)
                && let Some(called) = self.0.get(set)
            {
                set.clone_from(called);
            }
        }
        rule
    }
}

/// All chains and sets of our table.
pub(super) fn all(transport: &mut dyn Transport) -> Result<(Vec<Chain>, Vec<Set>), LinuxError> {
    let list = |kind| move |sequence| ask(kind, FAMILY_INET, sequence, |_| {});
    let chains: Vec<Chain> =
        dump(transport, READING, list(message_kind::GET_CHAIN), Chain::decode)?;
    let sets: Vec<Set> = dump(transport, READING, list(message_kind::GET_SET), Set::decode)?;
    let chains = chains.into_iter().filter(|it| it.table == TABLE).collect();
    Ok((chains, sets.into_iter().filter(|it| it.table == TABLE).collect()))
}
