//! What sets are called in the kernel: one that takes the place of another has to have another name.

use super::super::encode::{Parts, SetPart};
use super::super::listed::{chains, sets};
use super::super::names::{OTHER, TABLE, of_set, plain};
use super::change::Change;
use crate::LinuxError;
use crate::transport::Transport;
use std::collections::{HashMap, HashSet};
use tipstaff_wire::nf_tables::{Chain, Rule, Set};

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

    /// What sets are called that come beside those that are `there`, but for `same`, which are called as they are made;
    /// `None` if there is no name for one.
    pub(super) fn beside<'s>(
        there: &HashSet<&str>,
        new: impl Iterator<Item = &'s String>,
        same: impl Fn(&str) -> bool,
    ) -> Option<Self> {
        let free = |name: &String| {
            if same(name) || !there.contains(name.as_str()) {
                return Some(name.clone());
            }
            Some(format!("{name}{OTHER}")).filter(|it| !there.contains(it.as_str()))
        };
        new.map(|it| Some((it.clone(), free(it)?))).collect::<Option<_>>().map(Self)
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
            if let Some(set) = of_set!(step, set)
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
    let (mut chains, mut sets) = (chains(transport, READING)?, sets(transport, READING)?);
    chains.retain(|it| it.table == TABLE);
    sets.retain(|it| it.table == TABLE);
    Ok((chains, sets))
}
