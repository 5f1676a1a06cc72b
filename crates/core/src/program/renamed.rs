//! Programs that were meant for interfaces which have other names now.

use super::compare::compare;
use super::model::{RuleProgram, Test};
use crate::plan::InterfaceTest;
use std::collections::BTreeMap;

/// More ways than these to take names for others are not tried.
const MOST: usize = 256;

/// Whether `found` is just what is meant, but for the names of some interfaces: those that may be
/// `free` went by others when it was made.
#[must_use]
pub fn renamed(meant: &RuleProgram, found: &RuleProgram, free: &[String]) -> bool {
    let (now, then) = (meant.interfaces_told_apart(), found.interfaces_told_apart());
    let mut ways = vec![BTreeMap::new()];
    for name in &then {
        // The name may belong to another interface by now, even one that is meant too.
        let can_be: Vec<&String> =
            now.iter().filter(|it| *it == name || free.contains(it)).collect();
        if ways.len() * can_be.len() > MOST {
            return false;
        }
        let with = |way: &BTreeMap<String, String>| {
            let mut way = way.clone();
            let extended = can_be.iter().map(|it| {
                way.insert(name.clone(), (*it).clone());
                way.clone()
            });
            extended.collect::<Vec<_>>()
        };
        ways = ways.iter().flat_map(with).collect();
    }
    ways.iter().any(|way| compare(meant, &with_names(found, way)).is_empty())
}

fn with_names(program: &RuleProgram, names: &BTreeMap<String, String>) -> RuleProgram {
    let mut program = program.clone();
    let rules = program.chains.iter_mut().flat_map(|it| &mut it.rules);
    for test in rules.flat_map(|it| &mut it.tests) {
        if let Test::InInterface(test) | Test::OutInterface(test) = test
            && let InterfaceTest::Is(name) | InterfaceTest::IsNot(name) = test
            && let Some(other) = names.get(name)
        {
            name.clone_from(other);
        }
    }
    program
}
