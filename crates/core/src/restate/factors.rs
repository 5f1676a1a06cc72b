//! Conditions taken apart into what a rule names.

use crate::plan::{Condition, InterfaceTest};
use crate::space::{AddressSet, RangeSet, RelationSet, TrafficSet};
use std::collections::HashSet;
use std::hash::Hash;

/// Senders or receivers: what they are to the host, and their addresses.
pub(super) type End<'c> = (RelationSet, &'c AddressSet);

/// What a rule names; its conditions are one for each choice of these.
pub(super) struct Factors<'c> {
    pub ingress: Vec<&'c InterfaceTest>,
    pub egress: Vec<&'c InterfaceTest>,
    pub from: Vec<End<'c>>,
    pub to: Vec<End<'c>>,
    pub carried: Vec<(&'c TrafficSet, &'c RangeSet<u16>)>,
    /// What all have alike.
    pub common: &'c Condition,
}

/// Takes the conditions of a decision apart; `None` if they are not one for each choice of anything.
pub(super) fn factors(conditions: &[Condition]) -> Option<Factors<'_>> {
    let found = Factors {
        ingress: distinct(conditions, |it| &it.in_interface),
        egress: distinct(conditions, |it| &it.out_interface),
        from: distinct(conditions, |it| (it.source_is, &it.source)),
        to: distinct(conditions, |it| (it.destination_is, &it.destination)),
        carried: distinct(conditions, |it| (&it.traffic, &it.published)),
        common: conditions.first()?,
    };
    let choices = [
        found.ingress.len(),
        found.egress.len(),
        found.from.len(),
        found.to.len(),
        found.carried.len(),
    ];
    let choices = choices.into_iter().try_fold(1usize, usize::checked_mul)?;
    let different: HashSet<&Condition> = conditions.iter().collect();
    let common = |it: &Condition| {
        (&it.states, &it.source_ports, &it.programs, &it.users, it.until)
            == (
                &found.common.states,
                &found.common.source_ports,
                &found.common.programs,
                &found.common.users,
                found.common.until,
            )
    };
    (different.len() == choices && conditions.iter().all(common)).then_some(found)
}

/// What conditions have, each once, in their order.
fn distinct<'c, T: Copy + Eq + Hash>(
    conditions: &'c [Condition],
    of: impl Fn(&'c Condition) -> T,
) -> Vec<T> {
    let mut known = HashSet::new();
    conditions.iter().map(of).filter(|it| known.insert(*it)).collect()
}
