//! What has to change in the kernel for one program to become another.

use super::super::encode::{ChainPart, LIMITS, Parts, RulePart, SetPart};
use super::super::names::{ABOUT, set_of, text_of};
use super::super::record::DECISIONS;
use std::collections::{BTreeMap, HashSet};
use tipstaff_wire::nf_tables::{Chain, Element, Expression, set_flags};

/// What changes; all else stays as it is, with all that it counts.
#[derive(Default)]
pub(super) struct Change<'p> {
    pub gone_chains: Vec<&'p ChainPart>,
    pub new_chains: Vec<&'p ChainPart>,
    /// Chains in which what is left undecided fares otherwise.
    pub ended: Vec<&'p ChainPart>,
    pub changed: Vec<ChangedChain<'p>>,
    pub gone_sets: Vec<&'p SetPart>,
    pub new_sets: Vec<&'p SetPart>,
    pub filled: Vec<ChangedSet<'p>>,
}

/// A chain of which some rules go and some come.
pub(super) struct ChangedChain<'p> {
    pub name: &'p str,
    pub was: &'p [RulePart],
    pub is: &'p [RulePart],
    /// So many rules stay at its beginning.
    pub ahead: usize,
    /// And so many at its end.
    pub behind: usize,
}

/// A set that others come into, and out of which some go; of intervals, beginning and end together.
pub(super) struct ChangedSet<'p> {
    pub is: &'p SetPart,
    pub gone: Vec<&'p [Element]>,
    pub come: Vec<&'p [Element]>,
}

impl<'p> ChangedChain<'p> {
    /// The rules that go.
    pub(super) fn gone(&self) -> &'p [RulePart] {
        &self.was[self.ahead..self.was.len() - self.behind]
    }

    /// The rules that come.
    pub(super) fn come(&self) -> &'p [RulePart] {
        &self.is[self.ahead..self.is.len() - self.behind]
    }
}

/// Works out what changes. Decisions that are `reset` begin to count anew, wherever they count. `None` where that
/// cannot be done by parts.
pub(super) fn work_out<'p>(
    old: &'p Parts,
    new: &'p Parts,
    reset: &HashSet<&str>,
) -> Option<Change<'p>> {
    let in_place = in_place(old, new);
    let mut replaced = replaced(old, new, reset, &in_place);
    let (mut differing, mut ended) = (Vec::new(), Vec::new());
    for (name, is) in &new.chains {
        let Some(was) = old.chains.get(name) else { continue };
        if was.chain != is.chain {
            let policy = is.chain.policy;
            if (Chain { policy, ..was.chain.clone() }) != is.chain {
                return None;
            }
            ended.push(is);
        }
        let touched = |it: &RulePart| is_touched(it, &replaced, reset);
        if was.rules != is.rules || is.rules.iter().any(touched) {
            differing.push((name.as_str(), was, is));
        }
    }
    // Senders keep the limiter that they were given: a rate that changes needs new ones.
    let limits = |rules: &'p [RulePart]| {
        let all = rules.iter().flat_map(|it| &it.rule.expressions);
        all.filter_map(|it| match it {
            Expression::Dynset { set, .. } if set.starts_with(LIMITS) => Some(set.as_str()),
            _ => None,
        })
    };
    for (_, was, is) in &differing {
        let both = limits(&was.rules).chain(limits(&is.rules));
        replaced.extend(both.filter(|it| old.sets.contains_key(*it) && new.sets.contains_key(*it)));
    }
    let changed = differing.iter().map(|(name, was, is)| {
        let stays =
            |(was, is): &(&RulePart, &RulePart)| was == is && !is_touched(is, &replaced, reset);
        let ahead = was.rules.iter().zip(&is.rules).take_while(stays).count();
        let (was_rest, is_rest) = (&was.rules[ahead..], &is.rules[ahead..]);
        let behind = was_rest.iter().rev().zip(is_rest.iter().rev()).take_while(stays).count();
        ChangedChain { name, was: &was.rules, is: &is.rules, ahead, behind }
    });
    let change = Change {
        changed: changed.collect(),
        ended,
        gone_chains: only(&old.chains, &new.chains),
        new_chains: only(&new.chains, &old.chains),
        gone_sets: only_or(&old.sets, &new.sets, &replaced),
        new_sets: only_or(&new.sets, &old.sets, &replaced),
        filled: filled(old, new, &replaced),
    };
    Some(change)
}

impl Change<'_> {
    /// Whether the kernel has nothing to do.
    pub(super) fn is_nothing(&self) -> bool {
        let chains =
            self.gone_chains.len() + self.new_chains.len() + self.changed.len() + self.ended.len();
        let sets = self.gone_sets.len() + self.new_sets.len() + self.filled.len();
        chains + sets == 0
    }
}

/// The sets of which elements may change while rules look into them. A packet on its way goes by the rules of when it
/// came, but meets a set as it is by then: so only where nothing else changes, and it can meet one such set at most. No
/// packet meets the numbers of decisions, and what our table says of itself.
fn in_place<'p>(old: &'p Parts, new: &'p Parts) -> HashSet<&'p str> {
    let met_by_none = |it: &&String| *it == DECISIONS || *it == ABOUT;
    let numbers = new.sets.keys().filter(met_by_none).map(String::as_str).collect();
    if old.chains != new.chains || !old.sets.keys().eq(new.sets.keys()) {
        return numbers;
    }
    let both = old.sets.iter().zip(new.sets.values());
    let differing: Vec<(&String, &SetPart)> =
        both.filter(|((_, was), is)| was != is).map(|((name, _), is)| (name, is)).collect();
    let lengths: HashSet<u32> = differing.iter().map(|it| it.1.set.key_length).collect();
    let rules = || new.chains.values().flat_map(|it| &it.rules);
    let asked = |name: &String| {
        let sets = rules().flat_map(|it| it.rule.expressions.iter().filter_map(set_of));
        sets.filter(|it| it == name).count()
    };
    let is_met_once =
        |(name, is): &(&String, &SetPart)| is.set.flags & set_flags::MAP == 0 && asked(name) == 1;
    match lengths.len() == differing.len() && differing.iter().all(is_met_once) {
        true => differing.iter().map(|it| it.0.as_str()).collect(),
        false => numbers,
    }
}

/// The sets that are there before and after, and have to be made anew.
fn replaced<'p>(
    old: &'p Parts,
    new: &'p Parts,
    reset: &HashSet<&str>,
    in_place: &HashSet<&str>,
) -> HashSet<&'p str> {
    let mut replaced = HashSet::new();
    for (name, is) in &new.sets {
        let Some(was) = old.sets.get(name) else { continue };
        let fixed = is.set.flags & set_flags::CONSTANT != 0 || !in_place.contains(name.as_str());
        let differ = || was.elements != is.elements || begins_anew(is, reset);
        if was.set != is.set || was.counts != is.counts || fixed && differ() {
            replaced.insert(name.as_str());
        }
    }
    replaced
}

/// Whether elements of it belong to a decision that begins to count anew.
fn begins_anew(part: &SetPart, reset: &HashSet<&str>) -> bool {
    part.counts.is_some() && part.elements.iter().any(|it| is_reset(it, reset))
}

fn is_reset(element: &Element, reset: &HashSet<&str>) -> bool {
    !reset.is_empty() && text_of(&element.user_data).is_some_and(|it| reset.contains(it))
}

/// Whether a rule cannot stay, though it is meant as it was.
fn is_touched(part: &RulePart, replaced: &HashSet<&str>, reset: &HashSet<&str>) -> bool {
    if replaced.is_empty() && reset.is_empty() {
        return false;
    }
    let counts = part.counts.as_ref().map(|it| it.1.to_string());
    counts.is_some_and(|it| reset.contains(it.as_str()))
        || part.rule.expressions.iter().filter_map(set_of).any(|it| replaced.contains(it))
}

fn only<'p, T>(these: &'p BTreeMap<String, T>, others: &BTreeMap<String, T>) -> Vec<&'p T> {
    these.iter().filter(|it| !others.contains_key(it.0)).map(|it| it.1).collect()
}

fn only_or<'p>(
    these: &'p BTreeMap<String, SetPart>,
    others: &BTreeMap<String, SetPart>,
    replaced: &HashSet<&str>,
) -> Vec<&'p SetPart> {
    let chosen =
        |it: &(&String, &SetPart)| !others.contains_key(it.0) || replaced.contains(it.0.as_str());
    these.iter().filter(chosen).map(|it| it.1).collect()
}

fn filled<'p>(old: &'p Parts, new: &'p Parts, replaced: &HashSet<&str>) -> Vec<ChangedSet<'p>> {
    let mut filled = Vec::new();
    for (name, is) in &new.sets {
        let was = old.sets.get(name).filter(|_| !replaced.contains(name.as_str()));
        let Some(was) = was.filter(|it| it.elements != is.elements) else { continue };
        filled.push(ChangedSet { is, gone: without(was, is), come: without(is, was) });
    }
    filled
}

/// The values and whole intervals of a set that are not in another.
fn without<'p>(these: &'p SetPart, others: &SetPart) -> Vec<&'p [Element]> {
    let there: HashSet<&[Element]> = intervals(&others.elements).collect();
    intervals(&these.elements).filter(|it| !there.contains(it)).collect()
}

/// Each value, or beginning and end of an interval, by itself.
fn intervals(elements: &[Element]) -> impl Iterator<Item = &[Element]> {
    elements.chunk_by(|_, next| next.ends_interval)
}
