//! The policy that says what rules of others do.

use super::baseline::Settings;
use super::drafted::{Attempt, Draft, Others, default};
use super::flatten::{Flat, flatten};
use super::held::{Held, Place};
use super::judged::{Left, NODES, deciders, program, without};
use super::outcome::{Adopted, Named, NotTaken, Taken, Trouble};
use super::rules::Rule;
use crate::meaning::Atlas;
use crate::policy::Time;
use crate::program::RuleProgram;
use crate::space::Direction;
use std::collections::{BTreeMap, BTreeSet};

/// The policy of a host that does what others' rules do.
///
/// # Errors
/// [`Trouble`].
pub fn taken(held: &Held, host: Named<'_>, now: Time) -> Result<Adopted, Trouble> {
    let [inbound, outbound, forwarded] = Direction::ALL.map(|it| flatten(held, it));
    let lists = [inbound?, outbound?, forwarded?];
    let left = Left { untracked: !held.untracks, pings: false };
    let defaults = [0, 1, 2].map(|it| default(&lists[it]));
    let mut draft = Draft::new(held, host, defaults);
    let (_, usual) = draft.plan(&[const { Vec::new() }; 3], now)?;
    draft.baseline = Settings::like(&lists, &usual, left);
    let mut atlas = Atlas::within(NODES);
    let theirs = program(&lists, true);
    let left = Left { pings: draft.baseline.follows, ..left };
    let meaning = atlas.program(&without(program(&lists, false), left));
    let decide = deciders(&atlas, &meaning).into_iter().collect();
    let others = Others { lists, left, meaning, decide };
    let mut best = draft.attempt(&others, &mut atlas, now)?;
    // What looks alike part by part need not be so together.
    for switch in Settings::SWITCHES {
        if best.is_exact() {
            break;
        }
        let before = draft.baseline.clone();
        draft.baseline.turn(switch);
        let other = draft.attempt(&others, &mut atlas, now)?;
        if other.wrong() < best.wrong() {
            best = other;
        } else {
            draft.baseline = before;
        }
    }
    if atlas.is_exhausted() {
        return Err(Trouble::TooComplex);
    }
    Ok(adopted(best, &others, theirs))
}

fn adopted(best: Attempt, others: &Others<'_>, theirs: RuleProgram) -> Adopted {
    let said = said_by(&best.rules);
    let not_taken: Vec<NotTaken> = best.not_taken.into_iter().collect();
    let (mut said_already, mut idle) = (Vec::new(), Vec::new());
    for place in rows(&others.lists) {
        if said.contains_key(&place) || not_taken.iter().any(|it| it.place == place) {
            continue;
        }
        let name = place.to_string();
        match Direction::ALL.iter().any(|it| others.decide.contains(&(*it, name.clone()))) {
            true => said_already.push(place),
            false => idle.push(place),
        }
    }
    Adopted {
        policy: best.policy,
        plan: best.plan,
        theirs,
        taken: said.into_iter().map(|(place, rules)| Taken { place, rules }).collect(),
        said_already,
        idle,
        not_taken,
        differs: best.differs,
    }
}

/// The rules of others that have entries, in order.
fn rows(lists: &[Vec<Flat<'_>>; 3]) -> BTreeSet<Place> {
    let all = lists.iter().flatten().filter(|it| it.row.is_some());
    all.map(|it| it.place.clone()).collect()
}

/// Which rules say which of others.
fn said_by(rules: &[Vec<Rule>; 3]) -> BTreeMap<Place, Vec<String>> {
    let mut said: BTreeMap<Place, Vec<String>> = BTreeMap::new();
    for rule in rules.iter().flatten() {
        for origin in rule.origins.iter().filter(|it| it.place.number.is_some()) {
            let names = said.entry(origin.place.clone()).or_default();
            if !names.contains(&rule.name) {
                names.push(rule.name.clone());
            }
        }
    }
    said
}
