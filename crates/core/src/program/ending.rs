//! Programs over time: what is left of one at a moment, and one that gives way to another by itself.
//!
//! A posture with an end is one rule ahead of all that hold without it: up to that moment it leads to the chain
//! of the posture, which decides about every packet. No process has to do anything when the moment comes.

use super::lowering::lead;
use super::model::{Action, Chain, ProgramRule, RuleProgram, Test, Then};
use crate::plan::{LATER, RuleId};
use crate::policy::Time;
use crate::space::Direction;
use std::borrow::Cow;
use std::collections::BTreeSet;

/// The chain where packets of a direction are decided up to the end of a posture.
fn of_posture(direction: Direction) -> String {
    format!("{direction}/posture")
}

/// What a chain of what holds later is called: `inbound/later/v4` instead of `inbound/v4`.
fn later_name(name: &str) -> String {
    match name.split_once('/') {
        Some((direction, rest)) => format!("{direction}/{LATER}/{rest}"),
        None => name.to_owned(),
    }
}

/// And the other way round.
fn plain_name(name: &str) -> String {
    name.replacen(&format!("/{LATER}/"), "/", 1)
}

impl RuleProgram {
    /// The program that is this one before `end`, and `later` from then on, by the kernel's clock.
    #[must_use]
    pub fn until(mut self, end: Time, later: Self) -> Self {
        let later = later.renamed_all(&later_name, &RuleId::later);
        for mut chain in later.chains {
            if chain.base.is_some()
                && let Some(direction) = chain.direction
                && let Some(now) = self
                    .chains
                    .iter_mut()
                    .find(|it| it.base.is_some() && it.direction == chain.direction)
            {
                let name = of_posture(direction);
                let before = vec![Test::Before(end)];
                chain.rules.insert(0, lead(before, Action::Jump(name.clone())));
                std::mem::swap(now, &mut chain);
                (chain.name, chain.base) = (name, None);
            }
            self.chains.push(chain);
        }
        self.reopened = self.reopened.union(&later.reopened);
        self.on_link = self.on_link.union(&later.on_link);
        self.admitting.extend(later.admitting);
        self.sort();
        self
    }

    /// What is left of the program at a moment: rules whose time has passed do nothing any more,
    /// and no other test of the time fails. A posture that is over has left what holds without it. Only such
    /// programs can be asked about packets.
    #[must_use]
    pub fn at(self, now: Time) -> Self {
        let over = self.taken.as_ref().is_some_and(|it| !it.holds_at(now));
        let mut program = if over { self.without_posture() } else { self };
        for rule in program.chains.iter_mut().flat_map(|chain| &mut chain.rules) {
            rule.tests.retain(|test| !matches!(test, Test::Before(end) if now < *end));
        }
        for chain in &mut program.chains {
            let passed =
                |rule: &ProgramRule| rule.tests.iter().any(|it| matches!(it, Test::Before(_)));
            chain.rules.retain(|rule| !passed(rule));
        }
        program
    }

    /// What [`at`](Self::at) gives, without a copy where time changes nothing.
    #[must_use]
    pub fn as_of(&self, now: Time) -> Cow<'_, Self> {
        let over = self.taken.as_ref().is_some_and(|it| !it.holds_at(now));
        let mut tests = self.chains.iter().flat_map(|it| &it.rules).flat_map(|it| &it.tests);
        match over || tests.any(|it| matches!(it, Test::Before(_))) {
            true => Cow::Owned(self.clone().at(now)),
            false => Cow::Borrowed(self),
        }
    }

    /// What holds once its posture is over, as if that had never been taken.
    fn without_posture(mut self) -> Self {
        let taken = self.taken.take();
        let end = taken.as_ref().and_then(|it| it.until);
        self.taken = taken.and_then(|it| it.then).map(|it| *it);
        let postures: BTreeSet<String> = Direction::ALL.map(of_posture).into();
        for chain in self.chains.iter_mut().filter(|it| it.base.is_some()) {
            let leads = |rule: &ProgramRule| {
                matches!((&rule.tests[..], &rule.action), ([Test::Before(it)], Action::Jump(to))
                    if Some(*it) == end && postures.contains(to))
            };
            if chain.rules.first().is_some_and(leads) {
                chain.rules.remove(0);
            }
        }
        let of_later = |it: &Chain| it.base.is_some() || it.name != plain_name(&it.name);
        // Chains that nobody of ours has made stay, and are seen.
        let known = |it: &Chain| it.direction.is_some();
        self.chains.retain(|it| of_later(it) || !known(it));
        self.admitting.retain(|it| it.id.later);
        let mut program = self.renamed_all(&plain_name, &|id| RuleId { later: false, ..id });
        let asked = program.asks_for_links();
        program.on_link = asked.into_iter().map(|family| program.on_link.only(family)).collect();
        program.sort();
        program
    }

    /// All its chains but those where packets enter, and all its decisions, by other names.
    fn renamed_all(mut self, name: &dyn Fn(&str) -> String, id: &dyn Fn(RuleId) -> RuleId) -> Self {
        for chain in &mut self.chains {
            chain.name = name(&chain.name);
            for rule in &mut chain.rules {
                rule.id = rule.id.take().map(id);
                match &mut rule.action {
                    Action::Jump(to) => *to = name(to),
                    Action::Choose(lookup) => {
                        for entry in &mut lookup.entries {
                            match &mut entry.then {
                                Then::Allow(it) | Then::Deny(it) => *it = id(it.clone()),
                                Then::Jump(to) => *to = name(to),
                                Then::Opaque(_) => {}
                            }
                        }
                    }
                    _ => {}
                }
            }
        }
        for admitting in &mut self.admitting {
            admitting.id = id(admitting.id.clone());
        }
        self
    }
}
