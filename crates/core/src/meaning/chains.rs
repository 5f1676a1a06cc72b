//! How the chains of a program lead to one another.

use super::diagram::Diagram;
use crate::program::{Action, Chain, ProgramRule, RuleProgram, Test, Then};
use std::collections::HashMap;

/// The chains of a program.
pub(super) struct Chains<'p> {
    pub program: &'p RuleProgram,
    /// Meanings of those that have been worked out; `None` while one is being worked on.
    pub known: HashMap<&'p str, Option<Diagram>>,
    /// How many rules and entries of lookups lead to each.
    led: HashMap<&'p str, usize>,
}

impl<'p> Chains<'p> {
    pub(super) fn of(program: &'p RuleProgram) -> Self {
        let mut led: HashMap<&str, usize> = HashMap::new();
        for rule in program.chains.iter().flat_map(|it| &it.rules) {
            let names: Vec<&str> = match &rule.action {
                Action::Jump(name) => vec![name],
                Action::Choose(lookup) => {
                    let entries = lookup.entries.iter();
                    entries
                        .filter_map(|it| match &it.then {
                            Then::Jump(name) => Some(name.as_str()),
                            Then::Allow(_) | Then::Deny(_) | Then::Opaque(_) => None,
                        })
                        .collect()
                }
                _ => Vec::new(),
            };
            names.into_iter().for_each(|it| *led.entry(it).or_default() += 1);
        }
        Self { program, known: HashMap::new(), led }
    }

    /// The chain that a rule leads to, if only that rule does, and its tests can be told.
    pub(super) fn only_of(&self, rule: &ProgramRule) -> Option<&'p Chain> {
        let Action::Jump(name) = &rule.action else { return None };
        let told = !rule.tests.iter().any(|it| matches!(it, Test::Opaque(_)));
        let alone =
            self.led.get(name.as_str()) == Some(&1) && !self.known.contains_key(name.as_str());
        self.program.chain(name).filter(|_| told && alone)
    }
}
