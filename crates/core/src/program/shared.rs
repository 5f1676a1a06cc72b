//! One lookup for all lists that have the same.
//!
//! Where the same rules follow in many places, so do the same lookups: each is once in the kernel then, in a chain of its
//! own. To find a set by its name the kernel goes through all of a table's (`nft_set_lookup` in
//! net/netfilter/nf_tables_api.c), so that the fewer there are, the faster all of them are loaded and read.

use super::lowering::lead;
use super::model::{Action, Chain, ProgramRule, RuleProgram};
use crate::fnv::Fnv;
use crate::space::Direction;
use std::collections::{HashMap, HashSet};
use std::hash::{BuildHasher, BuildHasherDefault};

/// A smaller lookup is not worth a jump.
const LARGE: usize = 8;

/// A rule that looks packets of a direction up: its tests say what there is to be looked up.
type Shared<'p> = (Direction, &'p ProgramRule);
type Sum = BuildHasherDefault<Fnv>;

impl RuleProgram {
    /// Gives lookups that occur in several places a chain of their own.
    pub(super) fn share_lookups(&mut self) {
        let mut made: HashMap<String, Chain> = HashMap::new();
        for (at, place, name) in self.places_of_shared() {
            let chain = &mut self.chains[at];
            let direction = chain.direction;
            let leads = lead(Vec::new(), Action::Jump(name.clone()));
            let rule = std::mem::replace(&mut chain.rules[place], leads);
            made.entry(name).or_insert_with_key(|name| Chain {
                name: name.clone(),
                direction,
                base: None,
                rules: vec![rule],
            });
        }
        self.chains.extend(made.into_values());
    }

    /// Where lookups are that occur in several places, as the chain's place and the rule's, and what the chain is to be
    /// called that has it.
    fn places_of_shared(&self) -> Vec<(usize, usize, String)> {
        let mut times: HashMap<Shared<'_>, usize, Sum> = HashMap::default();
        for (.., shared) in lookups(&self.chains) {
            *times.entry(shared).or_default() += 1;
        }
        let mut names: HashMap<Shared<'_>, String, Sum> = HashMap::default();
        let mut taken = HashSet::new();
        let several = lookups(&self.chains).filter(|it| times[&it.2] > 1);
        let called = several.map(|(at, place, shared)| {
            let name = names.entry(shared).or_insert_with(|| {
                let (direction, rule) = shared;
                let sum = Sum::default().hash_one(rule);
                let mut name = format!("{}/shared/{sum:016x}", direction.as_str());
                while !taken.insert(name.clone()) {
                    name.push('+');
                }
                name
            });
            (at, place, name.clone())
        });
        called.collect()
    }
}

/// The rules with large lookups, with the chain's place and the rule's.
fn lookups(chains: &[Chain]) -> impl Iterator<Item = (usize, usize, Shared<'_>)> {
    let is_large = |rule: &ProgramRule| matches!(&rule.action, Action::Choose(lookup) if lookup.entries.len() >= LARGE);
    chains.iter().enumerate().flat_map(move |(at, chain)| {
        let rules = chain.rules.iter().enumerate().filter(move |it| is_large(it.1));
        rules.filter_map(move |(place, rule)| Some((at, place, (chain.direction?, rule))))
    })
}
