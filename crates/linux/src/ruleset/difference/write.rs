//! A change as one batch.

use super::super::encode::{ChainPart, Parts};
use super::super::listed::{elements, rules_of_chain};
use super::super::names::TABLE;
use super::change::{Change, ChangedChain, ChangedSet};
use super::counts::Counts;
use super::variants::Names;
use crate::LinuxError;
use crate::transport::Transport;
use std::collections::{HashMap, HashSet};
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{Batch, Chain, Element, Set, set_flags};

/// What the kernel has of what changes.
pub(super) struct There<'p> {
    /// The handles of the rules of each chain of which some change.
    handles: HashMap<&'p str, Vec<u64>>,
    counts: Counts,
    /// What sets are called, and what they are called behind the change.
    were: Names,
    pub are: Names,
}

impl<'p> There<'p> {
    /// Reads it; `None` if it is not what it is taken for.
    pub(super) fn read(
        transport: &mut dyn Transport,
        old: &Parts,
        change: &Change<'p>,
    ) -> Result<Option<Self>, LinuxError> {
        let Some(were) = Names::read(transport, old)? else { return Ok(None) };
        let (mut handles, mut counts) = (HashMap::new(), Counts::default());
        let changed = change.changed.iter().map(|it| (it.name, it.was, it.ahead, it.gone()));
        let whole = |it: &&'p ChainPart| (&*it.chain.name, &*it.rules, 0, &*it.rules);
        for (name, was, ahead, goes) in changed.chain(change.gone_chains.iter().map(whole)) {
            let found = rules_of_chain(transport, READING, TABLE, name)?;
            let named = found.iter().map(|it| &it.user_data);
            if !named.eq(was.iter().map(|it| &it.rule.user_data)) {
                return Ok(None);
            }
            handles.insert(name, found.iter().filter_map(|it| it.handle).collect());
            for (part, rule) in goes.iter().zip(&found[ahead..]) {
                counts.note(part, rule);
            }
        }
        for part in &change.gone_sets {
            let Some(direction) = part.counts else { continue };
            for element in elements(transport, READING, &were.set(part))? {
                counts.note_element(direction, &element);
            }
        }
        let are = were.behind(change);
        Ok(Some(Self { handles, counts, were, are }))
    }

    /// The batch; `None` if something would no longer be counted. Packets on their way go by the rules of when they came:
    /// what those lead to and look into stays as it is.
    pub(super) fn write(
        &mut self,
        mut batch: Batch,
        change: &Change<'p>,
        (new, reset): (&Parts, &HashSet<&str>),
    ) -> Option<Batch> {
        self.counts.forget(reset);
        self.take_out(&mut batch, change)?;
        self.put_in(&mut batch, change)?;
        self.counts.all_go_on(new).then_some(batch)
    }

    /// The batch that takes out what no rule leads to any more, nor looks into; `None` if there is nothing.
    pub(super) fn clean_up(&self, mut batch: Batch, change: &Change<'p>) -> Option<Batch> {
        if change.gone_chains.is_empty() && change.gone_sets.is_empty() {
            return None;
        }
        // Rules before the sets that they look into, and elements before the chains that they lead to.
        for part in change.gone_chains.iter().filter(|it| !it.rules.is_empty()) {
            batch.delete_rule(TABLE, &part.chain.name, None);
        }
        for part in change.gone_sets.iter().filter(|it| it.set.verdicts && !is_fixed(&it.set)) {
            if !part.elements.is_empty() {
                batch.empty_set(&self.were.set(part));
            }
        }
        for part in &change.gone_sets {
            batch.delete_set(&self.were.set(part));
        }
        for part in &change.gone_chains {
            batch.delete_chain(&part.chain);
        }
        Some(batch)
    }

    /// Takes out rules, and elements of sets that stay.
    fn take_out(&self, batch: &mut Batch, change: &Change<'p>) -> Option<()> {
        for chain in &change.changed {
            let handles = self.handles.get(chain.name)?;
            for handle in handles.get(chain.ahead..chain.was.len() - chain.behind)? {
                batch.delete_rule(TABLE, chain.name, Some(*handle));
            }
        }
        for set in &change.filled {
            batch.delete_elements(&self.were.set(set.is), &set.gone.concat());
        }
        Some(())
    }

    /// Puts in what comes.
    fn put_in(&mut self, batch: &mut Batch, change: &Change<'p>) -> Option<()> {
        for part in &change.new_chains {
            batch.new_chain(&part.chain);
        }
        for part in &change.ended {
            batch.new_chain(&Chain { hook: None, kind: None, ..part.chain.clone() });
        }
        // Numbers of sets are those of one batch; all that comes names them by their names.
        for (id, part) in (1..).zip(&change.new_sets) {
            let set = Set { id, ..self.are.set(part) };
            batch.new_set(&set);
            let elements = self.carried(part.counts, &part.elements);
            batch.new_elements(&set, &elements);
        }
        for ChangedSet { is, come, .. } in &change.filled {
            batch.new_elements(&self.are.set(is), &come.concat());
        }
        for part in &change.new_chains {
            for rule in &part.rules {
                batch.new_rule(&self.are.rule(self.counts.carried(rule)));
            }
        }
        for chain in &change.changed {
            let behind = self.first_behind(chain)?;
            for rule in chain.come() {
                let rule = self.are.rule(self.counts.carried(rule));
                match behind {
                    Some(handle) => batch.insert_rule(&rule, handle),
                    None => batch.new_rule(&rule),
                };
            }
        }
        Some(())
    }

    /// The first of the rules that stay behind what changes; `Some(None)` if there is none.
    fn first_behind(&self, chain: &ChangedChain<'p>) -> Option<Option<u64>> {
        let handles = self.handles.get(chain.name)?;
        if chain.behind == 0 {
            return Some(None);
        }
        handles.get(chain.was.len() - chain.behind).copied().map(Some)
    }

    fn carried(&mut self, counts: Option<Direction>, elements: &[Element]) -> Vec<Element> {
        let Some(direction) = counts else { return elements.to_vec() };
        elements.iter().map(|it| self.counts.carried_element(direction, it)).collect()
    }
}

/// Whether the kernel changes nothing in it while rules look into it: until the batch is over, also if they go.
fn is_fixed(set: &Set) -> bool {
    set.flags & set_flags::CONSTANT != 0
}

const READING: &str = "read the rules that change";
