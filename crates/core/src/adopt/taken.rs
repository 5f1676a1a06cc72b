//! The policy that says what rules of others do.

use super::baseline::Settings;
use super::flatten::{End, Flat, TooMany, flatten};
use super::fold::{both, folded};
use super::held::{Held, Place};
use super::judged::{Differs, Left, NODES, deciders, differing, meaning, program, without};
use super::rules::{Names, Rule, key};
use super::traffic::rule;
use crate::meaning::{Atlas, Meaning};
use crate::plan::{HostPlan, resolve};
use crate::policy::edit::quoted;
use crate::policy::{Diagnostic, Source, Time, Verdict, read};
use crate::program::RuleProgram;
use crate::space::{AddressSet, ConnectionState, Direction, Family};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

/// Names that places cannot have.
const BUILT_IN: [&str; 4] = ["anywhere", "this-host", "on-link", "private"];

/// A rule of others that the policy says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Taken {
    /// Where it stood.
    pub place: Place,
    /// The rules of the policy that say it.
    pub rules: Vec<String>,
}

/// A rule of others that the policy does not say.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct NotTaken {
    /// Where it stands.
    pub place: Place,
    /// Why, as the rest of a sentence.
    pub why: String,
    /// Whether it keeps something out that the policy may let in without it.
    pub keeps_out: bool,
}

/// A policy made of rules of others.
#[derive(Clone, Debug)]
pub struct Adopted {
    /// Its text.
    pub policy: String,
    /// What it means.
    pub plan: HostPlan,
    /// What others had, as a program: one chain for each direction, each rule under its place.
    pub theirs: RuleProgram,
    /// The rules that it says by rules of its own.
    pub taken: Vec<Taken>,
    /// The rules that decide about nothing but what the policy's baseline and defaults decide about alike.
    pub said_already: Vec<Place>,
    /// The rules that decide about no packet.
    pub idle: Vec<Place>,
    /// The rules that it cannot say.
    pub not_taken: Vec<NotTaken>,
    /// Packets that it treats otherwise.
    pub differs: Vec<Differs>,
}

/// Why no policy can be made.
#[derive(Debug)]
pub enum Trouble {
    /// There would be too many rules.
    TooMany(TooMany),
    /// What they mean is too much to be compared.
    TooComplex,
    /// What was written cannot be read.
    Unreadable(Vec<Diagnostic>),
}

impl From<TooMany> for Trouble {
    fn from(error: TooMany) -> Self {
        Self::TooMany(error)
    }
}

/// The policy of a host that does what others' rules do.
///
/// # Errors
/// [`Trouble`].
pub fn taken(held: &Held, host: &str, now: Time) -> Result<Adopted, Trouble> {
    let [inbound, outbound, forwarded] = Direction::ALL.map(|it| flatten(held, it));
    let lists = [inbound?, outbound?, forwarded?];
    let left = Left { untracked: !held.untracks, pings: false };
    let defaults = [0, 1, 2].map(|it| default(&lists[it]));
    let mut draft = Draft::new(held, host, defaults);
    let (_, usual) = draft.plan(&[const { Vec::new() }; 3], now)?;
    draft.baseline = Settings::like(&lists, &usual, left);
    let mut atlas = Atlas::within(NODES);
    let theirs = program(&lists);
    let left = Left { pings: draft.baseline.follows, ..left };
    let meaning = atlas.program(&without(theirs.clone(), left));
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

/// What others have, taken apart.
struct Others<'h> {
    lists: [Vec<Flat<'h>>; 3],
    left: Left,
    meaning: Meaning,
    /// The rules that decide about some packet.
    decide: BTreeSet<(Direction, String)>,
}

/// A policy that may do what others do.
struct Attempt {
    policy: String,
    plan: HostPlan,
    rules: [Vec<Rule>; 3],
    not_taken: BTreeSet<NotTaken>,
    differs: Vec<Differs>,
}

impl Attempt {
    /// The larger, the more is otherwise; what begins something counts most.
    fn wrong(&self) -> usize {
        const NEW: usize = 10;
        let weight = |it: &Differs| match it.packet.state {
            ConnectionState::New => NEW,
            _ => 1,
        };
        NEW * self.not_taken.len() + self.differs.iter().map(weight).sum::<usize>()
    }

    fn is_exact(&self) -> bool {
        self.wrong() == 0
    }
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

/// What becomes of what no rule decides about: what the last entry does.
fn default(list: &[Flat<'_>]) -> Verdict {
    match list.last().map(|it| &it.end) {
        Some(End::Decides(verdict)) => *verdict,
        _ => Verdict::Deny,
    }
}

/// The entries that make a difference: that decide about something, and are not the default's already.
fn effective<'l, 'h>(
    list: &'l [Flat<'h>],
    direction: Direction,
    decide: &BTreeSet<(Direction, String)>,
) -> Vec<&'l Flat<'h>> {
    let decides = |it: &&Flat<'_>| {
        matches!(it.end, End::Unknown(..)) || decide.contains(&(direction, it.place.to_string()))
    };
    let mut found: Vec<&Flat<'_>> = list.iter().filter(decides).collect();
    let default = End::Decides(default(list));
    while found.pop_if(|it| it.end == default && it.rate.is_none() && !reports(it)).is_some() {}
    found
}

fn reports(flat: &Flat<'_>) -> bool {
    flat.row.is_some_and(|it| it.log)
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

/// A policy in the making.
struct Draft {
    host: String,
    name: String,
    defaults: [Verdict; 3],
    baseline: Settings,
    places: Vec<(String, AddressSet)>,
    names: Names,
}

impl Draft {
    fn new(held: &Held, host: &str, defaults: [Verdict; 3]) -> Self {
        let mut names = Names::default();
        for name in BUILT_IN {
            names.free(name);
        }
        let places = held.places.iter().filter(|it| !it.1.is_empty());
        let places = places.map(|it| (names.free(&it.0), it.1.clone())).collect();
        Self {
            host: key(host),
            name: host.to_owned(),
            defaults,
            baseline: Settings::usual(),
            places,
            names: Names::default(),
        }
    }

    /// The policy with the baseline as it is set now.
    fn attempt(
        &mut self,
        others: &Others<'_>,
        atlas: &mut Atlas,
        now: Time,
    ) -> Result<Attempt, Trouble> {
        self.names = Names::default();
        let mut not_taken = BTreeSet::new();
        let mut rules = Direction::ALL.map(|direction| {
            let list = effective(&others.lists[direction as usize], direction, &others.decide);
            self.rules(&list, direction, &mut not_taken)
        });
        // What the baseline decides about already needs no rule.
        let (_, plan) = self.plan(&rules, now)?;
        let ours = meaning(atlas, &plan, others.left);
        let used: BTreeSet<(Direction, String)> = deciders(atlas, &ours).into_iter().collect();
        for (direction, list) in Direction::ALL.into_iter().zip(&mut rules) {
            list.retain(|it| used.contains(&(direction, it.name.clone())));
        }
        let (policy, plan) = self.plan(&rules, now)?;
        let ours = meaning(atlas, &plan, others.left);
        let differs = differing(atlas, &others.meaning, &ours);
        Ok(Attempt { policy, plan, rules, not_taken, differs })
    }

    /// The rules for some entries.
    fn rules(
        &mut self,
        list: &[&Flat<'_>],
        direction: Direction,
        not_taken: &mut BTreeSet<NotTaken>,
    ) -> Vec<Rule> {
        let open = self.baseline.open(direction);
        let mut missing = |flat: &Flat<'_>, why: String, keeps_out: bool| {
            not_taken.insert(NotTaken { place: flat.place.clone(), why, keeps_out });
        };
        let [first, second] = Family::BOTH.map(|family| {
            let mut rules = Vec::new();
            for flat in list {
                let verdict = match &flat.end {
                    End::Decides(verdict) => *verdict,
                    End::Unknown(why, keeps_out) => {
                        if flat.asked.has(family) {
                            missing(flat, why.clone(), *keeps_out);
                        }
                        continue;
                    }
                };
                let states = flat.asked.states.intersection(open);
                if states.is_empty() {
                    continue;
                }
                if !states.contains(ConnectionState::New) && open.contains(ConnectionState::New) {
                    let words: Vec<&str> = states.iter().map(ConnectionState::as_str).collect();
                    let why = format!("it is about {} packets only", words.join(" and "));
                    missing(flat, why, verdict != Verdict::Allow);
                    continue;
                }
                match rule(flat, family) {
                    Ok(rule) => rules.extend(rule),
                    Err(why) => missing(flat, why, verdict != Verdict::Allow),
                }
            }
            rules
        });
        let mut rules = folded(both(first, &second));
        self.leave_split_rates(&mut rules, not_taken);
        for rule in &mut rules {
            rule.name = self.names.free(&rule.suggested());
        }
        rules
    }

    /// A rate that several rules would keep, each by itself, is another rate.
    fn leave_split_rates(&self, rules: &mut Vec<Rule>, not_taken: &mut BTreeSet<NotTaken>) {
        let mut times: BTreeMap<Place, usize> = BTreeMap::new();
        for origin in rules.iter().filter(|it| it.rate.is_some()).flat_map(|it| &it.origins) {
            *times.entry(origin.place.clone()).or_default() += 1;
        }
        times.retain(|_, times| *times > 1);
        rules.retain(|rule| {
            let split =
                rule.rate.is_some() && rule.origins.iter().any(|it| times.contains_key(&it.place));
            for origin in rule.origins.iter().filter(|_| split) {
                let why = "its rate would be kept by several rules, each by itself".to_owned();
                let place = origin.place.clone();
                not_taken.insert(NotTaken { place, why, keeps_out: false });
            }
            !split
        });
    }

    /// The text with some rules, and what it means.
    fn plan(&self, rules: &[Vec<Rule>; 3], now: Time) -> Result<(String, HostPlan), Trouble> {
        let text = self.text(rules);
        let policy = read(&Source::new("adopted", &text)).map_err(Trouble::Unreadable)?;
        let plan =
            resolve(&policy, &self.name, now).map_err(|_| Trouble::Unreadable(Vec::new()))?;
        Ok((text, plan))
    }

    fn text(&self, rules: &[Vec<Rule>; 3]) -> String {
        let mut list = String::new();
        for (direction, rules) in Direction::ALL.into_iter().zip(rules) {
            rules.iter().for_each(|it| it.write(&self.host, direction, &self.places, &mut list));
        }
        let mut text = String::from("edition = 1\n");
        for (name, addresses) in &self.places {
            if !["", "!"].iter().any(|it| list.contains(&format!("\"{it}{name}\""))) {
                continue;
            }
            let blocks = addresses.blocks();
            let words: Vec<String> = blocks.iter().map(|it| quoted(&it.to_string())).collect();
            // Writing to a text cannot fail.
            let _ = writeln!(text, "\n[place.{name}]\naddresses = [{}]", words.join(", "));
        }
        let _ = writeln!(text, "\n[host.{}]\n\n[host.{}.default]", self.host, self.host);
        for (direction, verdict) in Direction::ALL.into_iter().zip(self.defaults) {
            let _ = writeln!(text, "{direction} = \"{}\"", verdict.as_str());
        }
        text.push_str(&self.baseline.text(&self.host));
        text.push_str(&list);
        text
    }
}
