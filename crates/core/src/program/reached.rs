//! The chains that packets come to.

use super::model::{Action, RuleProgram, Then};
use std::collections::{HashMap, HashSet};
use std::hash::BuildHasher;

/// The names of the chains that packets come to who come to those `entered`. What the rules of each chain do is in
/// `actions`, by its name.
#[must_use]
pub fn reached<'a>(
    entered: impl IntoIterator<Item = &'a str>,
    actions: &HashMap<&'a str, Vec<&'a Action>, impl BuildHasher>,
) -> HashSet<&'a str> {
    let mut reached: HashSet<&str> = entered.into_iter().collect();
    let mut next: Vec<&str> = reached.iter().copied().collect();
    while let Some(chain) = next.pop() {
        for action in actions.get(chain).map_or(&[][..], Vec::as_slice) {
            match action {
                Action::Jump(to) => next.extend(reached.insert(to).then_some(to.as_str())),
                Action::Choose(lookup) => next.extend(lookup.entries.iter().filter_map(|it| {
                    let Then::Jump(to) = &it.then else { return None };
                    reached.insert(to).then_some(to.as_str())
                })),
                _ => {}
            }
        }
    }
    reached
}

impl RuleProgram {
    /// The names of the chains that packets come to.
    #[must_use]
    pub fn reached(&self) -> HashSet<&str> {
        let mut actions: HashMap<&str, Vec<&Action>> = HashMap::new();
        for chain in &self.chains {
            actions.insert(&chain.name, chain.rules.iter().map(|it| &it.action).collect());
        }
        let entered = self.chains.iter().filter(|it| it.base.is_some());
        reached(entered.map(|it| it.name.as_str()), &actions)
    }

    /// Leaves out the chains that no packet comes to: those of decisions of which the rules before leave nothing.
    pub(super) fn only_reached(&mut self) {
        let reached = self.reached();
        if reached.len() < self.chains.len() {
            let reached: HashSet<String> = reached.into_iter().map(str::to_owned).collect();
            self.chains.retain(|it| reached.contains(&it.name));
        }
    }
}
