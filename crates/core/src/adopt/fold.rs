//! Fewer rules that mean the same.

use super::rules::Rule;
use std::collections::{HashMap, VecDeque};

/// So many rules of a name are looked at for one that says the same of the other IP version.
const LOOKED_AT: usize = 64;

/// Whether two neighbours differ in one thing only, and how that of many of them is put into one.
type Way = (fn(&Rule, &Rule) -> bool, fn(&[Rule], &mut Rule));

/// The things in which neighbours may differ.
const WAYS: [Way; 5] = [
    (
        |one, other| one.alike(other) && one.to == other.to,
        |all, one| one.from = all.iter().map(|it| it.from.clone()).collect(),
    ),
    (
        |one, other| one.alike(other) && one.from == other.from,
        |all, one| one.to = all.iter().map(|it| it.to.clone()).collect(),
    ),
    (
        |one, other| one.same_ends(other) && one.does_as(other) && one.carries_as(other),
        |all, one| {
            // No ports are all ports.
            let from_all = all.iter().any(|it| it.source_ports.is_empty());
            let ports = all.iter().flat_map(|it| it.source_ports.clone());
            one.source_ports = ports.filter(|_| !from_all).collect();
        },
    ),
    (
        |one, other| {
            let ends = one.same_ends(other) && one.source_ports == other.source_ports;
            ends && one.does_as(other) && one.is_plain() && other.is_plain()
        },
        |all, one| {
            one.traffic = all.iter().flat_map(|it| it.traffic.clone()).collect();
            one.types = all.iter().flat_map(|it| it.types.clone()).collect();
            if one.traffic.iter().any(|it| it == "any") {
                (one.traffic, one.types) = (vec!["any".into()], Vec::new());
            }
        },
    ),
    (
        |one, other| {
            let named =
                |it: &[String]| matches!(it, [name] if !name.starts_with('!')) || it.len() > 1;
            let ends = one.same_ends(other) && one.source_ports == other.source_ports;
            let same = ends && one.carries_as(other) && one.does_so_as(other);
            same && one.egress == other.egress && named(&one.ingress) && named(&other.ingress)
        },
        |all, one| one.ingress = all.iter().flat_map(|it| it.ingress.clone()).collect(),
    ),
];

/// Joins neighbours in a list that do the same and differ in one thing only: between them, order means nothing.
pub(crate) fn folded(mut rules: Vec<Rule>) -> Vec<Rule> {
    // What is joined may be like its neighbour then.
    loop {
        let before = rules.len();
        for way in WAYS {
            rules = joined(rules, way);
        }
        if rules.len() == before {
            return rules;
        }
    }
}

/// All neighbours that differ from one another in one thing, at once: a long run costs no more than its length.
fn joined(rules: Vec<Rule>, (differ, together): Way) -> Vec<Rule> {
    let mut list = Vec::with_capacity(rules.len());
    let mut run: Vec<Rule> = Vec::new();
    let mut close = |run: &mut Vec<Rule>| {
        if let [first, _, ..] = &run[..] {
            let mut one = first.clone();
            together(run, &mut one);
            one.origins = run.iter().flat_map(|it| it.origins.clone()).collect();
            *run = vec![one];
        }
        list.append(run);
    };
    for rule in rules {
        if run.first().is_some_and(|first| !differ(first, &rule)) {
            close(&mut run);
        }
        run.push(rule);
    }
    close(&mut run);
    list
}

/// One list of two that are about different IP versions: what both say alike by the same name is said once. The
/// order of each stays; between packets of different versions there is none.
pub(crate) fn both(first: Vec<Rule>, second: &[Rule]) -> Vec<Rule> {
    let mut named: HashMap<&str, VecDeque<usize>> = HashMap::new();
    for (at, rule) in second.iter().enumerate() {
        named.entry(&rule.name).or_default().push_back(at);
    }
    let mut list = Vec::with_capacity(first.len() + second.len());
    let mut next = 0;
    for rule in first {
        let twin = named.get_mut(rule.name.as_str()).and_then(|all| {
            while all.front().is_some_and(|at| *at < next) {
                all.pop_front();
            }
            all.iter().copied().take(LOOKED_AT).find(|at| second[*at].alike(&rule))
        });
        let Some(twin) = twin else {
            list.push(rule);
            continue;
        };
        list.extend_from_slice(&second[next..twin]);
        next = twin + 1;
        let (from, to) = (&second[twin].from, &second[twin].to);
        let mut origins = rule.origins;
        for origin in &second[twin].origins {
            if !origins.contains(origin) {
                origins.push(origin.clone());
            }
        }
        list.push(Rule { from: rule.from.union(from), to: rule.to.union(to), origins, ..rule });
    }
    list.extend_from_slice(&second[next..]);
    list
}
