//! Fewer rules that mean the same.

use super::rules::Rule;
use std::collections::{HashMap, VecDeque};

/// Joins neighbours in a list that do the same and differ in one thing only: between them, order means nothing.
pub(super) fn folded(mut rules: Vec<Rule>) -> Vec<Rule> {
    // What is joined may be like its neighbour then.
    loop {
        let before = rules.len();
        let mut list: Vec<Rule> = Vec::with_capacity(before);
        for rule in rules {
            let joined = list.last().and_then(|last| joined(last, &rule));
            match (joined, list.last_mut()) {
                (Some(joined), Some(last)) => *last = joined,
                _ => list.push(rule),
            }
        }
        if list.len() == before {
            return list;
        }
        rules = list;
    }
}

fn joined(one: &Rule, other: &Rule) -> Option<Rule> {
    if one.alike(other) && one.to == other.to {
        return Some(Rule { from: one.from.union(&other.from), ..one.clone() });
    }
    if one.alike(other) && one.from == other.from {
        return Some(Rule { to: one.to.union(&other.to), ..one.clone() });
    }
    let ports = Rule { source_ports: other.source_ports.clone(), ..one.clone() };
    if ports.alike(other) && (&one.from, &one.to) == (&other.from, &other.to) {
        let from_all = one.source_ports.is_empty() || other.source_ports.is_empty();
        let both = one.source_ports.iter().chain(&other.source_ports);
        let source_ports = both.filter(|_| !from_all).cloned().collect();
        return Some(Rule { source_ports, ..one.clone() });
    }
    // A list of terms with exceptions is one by itself.
    let plain = |rule: &Rule| !rule.traffic.iter().any(|it| it.starts_with('!'));
    let (traffic, types) = (other.traffic.clone(), other.types.clone());
    let same = Rule { traffic, types, ..one.clone() };
    let ends = (&one.from, &one.to) == (&other.from, &other.to);
    if plain(one) && plain(other) && same.alike(other) && ends {
        let traffic: Vec<String> = one.traffic.iter().chain(&other.traffic).cloned().collect();
        if traffic.iter().any(|it| it == "any") {
            return Some(Rule { traffic: vec!["any".into()], types: Vec::new(), ..one.clone() });
        }
        let types = one.types.iter().chain(&other.types).cloned().collect();
        return Some(Rule { traffic, types, ..one.clone() });
    }
    None
}

/// One list of two that are about different IP versions: what both say alike by the same name is said once. The order of each
/// stays; between packets of different versions there is none.
pub(super) fn both(first: Vec<Rule>, second: &[Rule]) -> Vec<Rule> {
    let mut named: HashMap<String, VecDeque<usize>> = HashMap::new();
    for (at, rule) in second.iter().enumerate() {
        named.entry(rule.name.clone()).or_default().push_back(at);
    }
    let mut list = Vec::with_capacity(first.len() + second.len());
    let mut next = 0;
    for rule in first {
        let twin = named.get_mut(&rule.name).and_then(|all| {
            all.retain(|at| *at >= next);
            all.iter().copied().find(|at| second[*at].alike(&rule))
        });
        let Some(twin) = twin else {
            list.push(rule);
            continue;
        };
        list.extend_from_slice(&second[next..twin]);
        next = twin + 1;
        let (from, to) = (&second[twin].from, &second[twin].to);
        list.push(Rule { from: rule.from.union(from), to: rule.to.union(to), ..rule });
    }
    list.extend_from_slice(&second[next..]);
    list
}
