//! What a change has left behind, if it was ended before it could take that out: chains that no packet comes to, and
//! sets that no rule looks into which one comes to. They decide nothing.

use super::listed::rules_of;
use super::names::{TABLE, direction_of, plain, set_of};
use super::record::PREFIX;
use crate::LinuxError;
use crate::transport::Transport;
use foldhash::{HashMap, HashMapExt, HashSet, HashSetExt};
use tipstaff_core::program::{Action, reached};
use tipstaff_wire::nf_tables::{Chain, Element, Expression, Rule, Set, Verdict};

/// The names of sets that are there twice: one takes the place of the other.
pub(super) fn twins(sets: &[Set]) -> HashSet<String> {
    let mut seen = HashSet::new();
    let names = sets.iter().map(|it| plain(&it.name));
    names.filter(|it| !seen.insert(*it)).map(str::to_owned).collect()
}

/// The sets that rules look into to which packets can come.
pub(super) fn used(
    transport: &mut dyn Transport,
    chains: &[Chain],
    maps: &[(&str, Vec<Element>)],
) -> Result<HashSet<String>, LinuxError> {
    let rules = rules_of(transport, "read the kernel's rules", TABLE)?;
    let mut of_chain: HashMap<&str, Vec<&Rule>> = HashMap::new();
    for rule in &rules {
        of_chain.entry(&rule.chain).or_default().push(rule);
    }
    let maps: HashMap<&str, &[Element]> = maps.iter().map(|it| (it.0, it.1.as_slice())).collect();
    let (mut used, mut come_to) = (HashSet::new(), entered(chains));
    let mut next: Vec<&str> = come_to.iter().copied().collect();
    while let Some(chain) = next.pop() {
        let rules = of_chain.get(chain).map_or(&[][..], Vec::as_slice);
        for step in rules.iter().flat_map(|it| &it.expressions) {
            let mut leads: Vec<&str> = Vec::new();
            if let Expression::Immediate(verdict) = step {
                leads.extend(led(verdict));
            }
            if let Some(set) = set_of(step)
                && used.insert(set.to_owned())
            {
                let elements = maps.get(set).copied().unwrap_or_default();
                leads.extend(elements.iter().filter_map(|it| it.verdict.as_ref()).filter_map(led));
            }
            next.extend(leads.into_iter().filter(|it| come_to.insert(it)));
        }
    }
    Ok(used)
}

fn led(verdict: &Verdict) -> Option<&str> {
    match verdict {
        Verdict::Jump(chain) | Verdict::Goto(chain) => Some(chain),
        _ => None,
    }
}

/// The chains that packets enter.
fn entered(chains: &[Chain]) -> HashSet<&str> {
    let ours = chains.iter().filter(|it| it.table == TABLE && it.hook.is_some());
    ours.map(|it| it.name.as_str()).collect()
}

/// The chains and rules without those of ours that no packet comes to. Where something is not understood, all are left.
/// Of each rule `of` tells in which chain it is, and what it does.
pub(super) fn without<T>(
    chains: Vec<Chain>,
    rules: &mut Vec<T>,
    of: impl Fn(&T) -> (&str, &Action),
) -> Vec<Chain> {
    let mut of_chain: HashMap<&str, Vec<&Action>> = HashMap::new();
    // The kernel lists them one chain after the other.
    for list in rules.chunk_by(|a, b| of(a).0 == of(b).0) {
        let actions: Vec<&Action> = list.iter().map(|it| of(it).1).collect();
        if actions.iter().any(|it| matches!(it, Action::Opaque(_))) {
            return chains;
        }
        of_chain.entry(of(&list[0]).0).or_default().extend(actions);
    }
    let come_to = reached(entered(&chains), &of_chain);
    let stays = |name: &str| come_to.contains(name) || !is_helper(name);
    let gone: HashSet<String> =
        chains.iter().map(|it| &it.name).filter(|it| !stays(it)).cloned().collect();
    if gone.is_empty() {
        return chains;
    }
    rules.retain(|it| !gone.contains(of(it).0));
    chains.into_iter().filter(|it| it.table != TABLE || !gone.contains(&it.name)).collect()
}

/// Whether it is a chain of ours that only rules lead to.
fn is_helper(chain: &str) -> bool {
    chain.contains('/') && (direction_of(chain).is_some() || chain.starts_with(PREFIX))
}
