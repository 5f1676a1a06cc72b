//! A policy in the making, tried with one setting of the baseline or another.

use super::baseline::Settings;
use super::flatten::{End, Flat};
use super::fold::{both, folded};
use super::held::{Held, Place};
use super::judged::{Differs, Left, deciders, differing, meaning};
use super::outcome::{Named, NotTaken, Trouble};
use super::rules::{Names, Rule, key};
use super::services::Services;
use super::traffic::rule;
use crate::meaning::{Atlas, Meaning};
use crate::plan::{HostPlan, resolve};
use crate::policy::edit::quoted;
use crate::policy::{Source, Time, Verdict, read};
use crate::space::{AddressSet, ConnectionState, Direction, Family};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;

/// Names that places cannot have.
const BUILT_IN: [&str; 4] = ["anywhere", "this-host", "on-link", "private"];

/// What others have, taken apart.
pub(super) struct Others<'h> {
    pub lists: [Vec<Flat<'h>>; 3],
    pub left: Left,
    pub meaning: Meaning,
    /// The rules that decide about some packet.
    pub decide: BTreeSet<(Direction, String)>,
}

/// A policy that may do what others do.
pub(super) struct Attempt {
    pub policy: String,
    pub plan: HostPlan,
    pub rules: [Vec<Rule>; 3],
    pub not_taken: BTreeSet<NotTaken>,
    pub differs: Vec<Differs>,
}

impl Attempt {
    /// The larger, the more is otherwise; what begins something counts most.
    pub(super) fn wrong(&self) -> usize {
        const NEW: usize = 10;
        let weight = |it: &Differs| match it.packet.state {
            ConnectionState::New => NEW,
            _ => 1,
        };
        NEW * self.not_taken.len() + self.differs.iter().map(weight).sum::<usize>()
    }

    pub(super) fn is_exact(&self) -> bool {
        self.wrong() == 0
    }
}

/// What becomes of what no rule decides about: what the last entry does.
pub(super) fn default(list: &[Flat<'_>]) -> Verdict {
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

/// A policy in the making.
pub(super) struct Draft {
    host: String,
    name: String,
    machine: Option<String>,
    defaults: [Verdict; 3],
    pub baseline: Settings,
    places: Vec<(String, AddressSet)>,
    services: Services,
    names: Names,
}

impl Draft {
    pub(super) fn new(held: &Held, host: Named<'_>, defaults: [Verdict; 3]) -> Self {
        let mut names = Names::default();
        for name in BUILT_IN {
            names.free(name);
        }
        let places = held.places.iter().filter(|it| !it.1.is_empty());
        let places = places.map(|it| (names.free(&it.0), it.1.clone())).collect();
        Self {
            host: key(host.host),
            name: host.host.to_owned(),
            machine: host.machine.map(str::to_owned),
            defaults,
            baseline: Settings::usual(),
            places,
            services: Services::of(&held.ports),
            names: Names::default(),
        }
    }

    /// The policy with the baseline as it is set now.
    pub(super) fn attempt(
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
    pub(super) fn plan(
        &self,
        rules: &[Vec<Rule>; 3],
        now: Time,
    ) -> Result<(String, HostPlan), Trouble> {
        let text = self.text(rules);
        let policy = read(&Source::new("adopted", &text)).map_err(Trouble::Unreadable)?;
        let plan =
            resolve(&policy, &self.name, now).map_err(|_| Trouble::Unreadable(Vec::new()))?;
        Ok((text, plan))
    }

    fn text(&self, rules: &[Vec<Rule>; 3]) -> String {
        let (mut list, mut used) = (String::new(), BTreeSet::new());
        for (direction, rules) in Direction::ALL.into_iter().zip(rules) {
            for rule in rules {
                let rule = self.services.named(rule);
                rule.write(&self.host, direction, &self.places, &mut list);
                used.extend(rule.traffic);
            }
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
        self.services.write(&used, &mut text);
        let _ = writeln!(text, "\n[host.{}]", self.host);
        if let Some(machine) = &self.machine {
            let _ = writeln!(text, "names = [{}]", quoted(machine));
        }
        let _ = writeln!(text, "\n[host.{}.default]", self.host);
        for (direction, verdict) in Direction::ALL.into_iter().zip(self.defaults) {
            let _ = writeln!(text, "{direction} = \"{}\"", verdict.as_str());
        }
        text.push_str(&self.baseline.text(&self.host));
        text.push_str(&list);
        text
    }
}
