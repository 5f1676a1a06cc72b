//! Where rules are written down: in a batch for the kernel, or so that two lists can be held against each other.

use super::super::names::of_set;
use super::parts::{Counts, Parts, RulePart};
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{Batch, Chain, Element, Rule, Set};

/// Where rules are written down.
pub(super) enum Sheet {
    Batch(Batch),
    Parts(Box<Parts>),
}

impl Sheet {
    /// Writes down a chain; like all that follow, this gives the number of the message.
    pub(super) fn new_chain(&mut self, chain: &Chain) -> u32 {
        match self {
            Self::Batch(batch) => batch.new_chain(chain),
            Self::Parts(parts) => {
                parts.chains.entry(chain.name.clone()).or_default().chain = chain.clone();
                0
            }
        }
    }

    /// A set without elements.
    pub(super) fn new_set(&mut self, set: &Set) -> u32 {
        match self {
            Self::Batch(batch) => batch.new_set(set),
            Self::Parts(parts) => {
                let set = Set { id: 0, ..set.clone() };
                let part = parts.sets.entry(set.name.clone()).or_default();
                part.set = set;
                0
            }
        }
    }

    /// A set, and what is in it.
    pub(super) fn new_filled(&mut self, set: &Set, elements: &[Element]) {
        self.new_set(set);
        self.new_elements(set, elements);
    }

    /// What is in a set.
    pub(super) fn new_elements(&mut self, set: &Set, elements: &[Element]) -> u32 {
        self.new_counted(set, elements, None)
    }

    /// What is in a map whose elements count packets of a direction for their decisions.
    pub(super) fn new_counted(
        &mut self,
        set: &Set,
        elements: &[Element],
        direction: Option<Direction>,
    ) -> u32 {
        match self {
            Self::Batch(batch) => batch.new_elements(set, elements),
            Self::Parts(parts) => {
                let part = parts.sets.entry(set.name.clone()).or_default();
                part.elements.extend_from_slice(elements);
                part.counts = direction;
                0
            }
        }
    }

    /// A rule at the end of its chain, and what its first counter counts.
    pub(super) fn new_rule(&mut self, rule: &Rule, counts: Option<Counts<'_>>) -> u32 {
        match self {
            Self::Batch(batch) => batch.new_rule(rule),
            Self::Parts(parts) => {
                let mut rule = rule.clone();
                // The number of a set is that of one batch; its name stays.
                rule.expressions.iter_mut().filter_map(|it| of_set!(it, id)).for_each(|id| *id = 0);
                let counts = counts.map(|(direction, id, what)| (direction, id.clone(), what));
                let chain = parts.chains.entry(rule.chain.clone()).or_default();
                chain.rules.push(RulePart { rule, counts });
                0
            }
        }
    }
}
