//! Whether the kernel holds what came into it, as it was sent.

use super::super::encode::{ChainPart, Parts, SetPart};
use super::super::listed::{elements, rules_of_chain};
use super::super::names::{TABLE, forget_counts, plain};
use super::change::Change;
use super::variants::{Names, all};
use crate::LinuxError;
use crate::transport::Transport;
use std::collections::HashSet;
use tipstaff_wire::nf_tables::{self as nf, Chain, Element, Set, set_flags};

const READING: &str = "read back what has changed";
/// With more parts than these it takes as long as reading all.
const MOST: usize = 512;

/// Whether our table holds the chains and sets of `new` and no others, and in those that `change` concerns what was
/// sent. `false` if that is not so or cannot be told like this: then all of it has to be read.
pub(super) fn holds(
    transport: &mut dyn Transport,
    change: &Change<'_>,
    (new, names): (&Parts, &Names),
) -> Result<bool, LinuxError> {
    let chains = change.changed.len() + change.new_chains.len();
    if chains + change.filled.len() + change.new_sets.len() > MOST {
        return Ok(false);
    }
    if !all_there(transport, new, names)? {
        return Ok(false);
    }
    let changed = change.changed.iter().filter_map(|it| new.chains.get(it.name));
    for part in changed.chain(change.new_chains.iter().copied()) {
        if !is_chain(transport, part, names)? {
            return Ok(false);
        }
    }
    let filled = change.filled.iter().map(|it| it.is);
    for part in filled.chain(change.new_sets.iter().copied()) {
        if !is_set(transport, part, names)? {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Whether the chains and sets are there, and no others.
fn all_there(
    transport: &mut dyn Transport,
    new: &Parts,
    names: &Names,
) -> Result<bool, LinuxError> {
    let (chains, sets) = all(transport)?;
    let is_chain = |it: &Chain| {
        new.chains
            .get(&it.name)
            .is_some_and(|part| (&part.chain.hook, &part.chain.policy) == (&it.hook, &it.policy))
    };
    let is_set = |it: &Set| {
        new.sets.get(plain(&it.name)).is_some_and(|part| {
            let of =
                |it: &Set| (it.flags, it.key_length, it.size, it.timeout, it.verdicts, it.counted);
            names.set(part).name == it.name && of(&part.set) == of(it)
        })
    };
    Ok(chains.len() == new.chains.len()
        && sets.len() == new.sets.len()
        && chains.iter().all(is_chain)
        && sets.iter().all(is_set))
}

fn is_chain(
    transport: &mut dyn Transport,
    part: &ChainPart,
    names: &Names,
) -> Result<bool, LinuxError> {
    let found = rules_of_chain(transport, READING, TABLE, &part.chain.name)?;
    let found = found.into_iter().map(|rule| {
        let mut rule = nf::Rule { handle: None, family: 0, ..rule };
        forget_counts(&mut rule.expressions);
        rule
    });
    Ok(found.eq(part.rules.iter().map(|it| names.rule(it.rule.clone()))))
}

fn is_set(
    transport: &mut dyn Transport,
    part: &SetPart,
    names: &Names,
) -> Result<bool, LinuxError> {
    if part.set.flags & set_flags::DYNAMIC != 0 {
        return Ok(true);
    }
    let found = elements(transport, READING, &names.set(part))?;
    let plain = |it: &Element| Element { count: None, expires: None, ..it.clone() };
    let there: HashSet<Element> = found.iter().map(plain).collect();
    let meant: HashSet<Element> = part.elements.iter().map(plain).collect();
    Ok(found.len() == part.elements.len() && there == meant)
}
