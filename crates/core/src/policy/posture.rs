//! Postures: what a host's policy says for a certain situation.

use super::model::{Default, Expectation, Host, Policy, Posture, TurnedAway};
use super::taken::{ALWAYS, NO_POSTURE};
use super::whereabouts::Whereabouts;
use crate::space::Direction;

impl Expectation {
    /// Whether it is to hold in a posture, or in none.
    #[must_use]
    pub fn is_for(&self, posture: Option<&str>) -> bool {
        let named = |word: &str| self.postures.iter().any(|it| it == word);
        match posture {
            _ if named(ALWAYS) => true,
            Some(posture) => named(posture),
            None => self.postures.is_empty() || named(NO_POSTURE),
        }
    }
}

impl Host {
    /// Whether any of its postures holds by itself.
    #[must_use]
    pub fn goes_by_place(&self) -> bool {
        self.postures.iter().any(|it| it.when.is_some())
    }

    /// The posture that holds by itself there: the one whose place it is, if that is one; else the one in which every
    /// boot begins. `None` where none holds by itself.
    #[must_use]
    pub fn posture_at(&self, at: &Whereabouts) -> Option<&str> {
        if !self.goes_by_place() {
            return None;
        }
        let there = |it: &&Posture| it.when.as_ref().is_some_and(|it| it.holds(at));
        let mut found = self.postures.iter().filter(there);
        match (found.next(), found.next()) {
            (Some(only), None) => Some(&only.name),
            // Nowhere that is known, or in two places at once.
            _ => self.at_boot.as_deref(),
        }
    }

    /// What is to be proven of it, in the posture in which it is.
    pub fn expected(&self) -> impl Iterator<Item = &Expectation> {
        self.expectations.iter().filter(|it| it.is_for(self.posture.as_deref()))
    }

    /// What it says in one of its postures; `None` if it has no such.
    #[must_use]
    pub fn in_posture(&self, name: &str) -> Option<Self> {
        let posture = self.postures.iter().find(|it| it.name == name)?;
        let mut host = self.clone();
        host.posture = Some(name.to_owned());
        let own = if posture.instead { Vec::new() } else { std::mem::take(&mut host.rules) };
        host.rules = posture.rules.iter().cloned().chain(own).collect();
        for direction in Direction::ALL {
            let Some((verdict, origin)) = &posture.defaults[direction as usize] else { continue };
            *host.defaults.of_mut(direction) =
                Default { verdict: *verdict, origin: Some(origin.clone()) };
        }
        if let Some((ping, origin)) = &posture.ping {
            (host.baseline.ping, host.baseline.ping_origin) = (*ping, Some(origin.clone()));
        }
        let switched = |name: &str| posture.switches.iter().any(|it| it.0 == name);
        host.baseline.switches.retain(|it| !switched(it.0));
        host.baseline.switches.extend(posture.switches.iter().cloned());
        if let Some(more) = &posture.turned_away {
            host.turned_away = Some(match host.turned_away.take() {
                Some(all) => all.and(more.clone()),
                None => TurnedAway { own: 0, ..more.clone() },
            });
        }
        host.accepted.extend(posture.accepted.iter().cloned());
        Some(host)
    }
}

impl TurnedAway {
    /// Those of both; the list of the first is the host's own.
    #[must_use]
    pub(crate) fn and(mut self, more: Self) -> Self {
        self.addresses = self.addresses.union(&more.addresses);
        self.for_a_time.extend(more.for_a_time);
        self.terms.extend(more.terms);
        self
    }
}

impl Policy {
    /// What it says if one of its hosts is in a posture; `None` if that host has no such.
    #[must_use]
    pub fn in_posture(&self, host: &str, posture: &str) -> Option<Self> {
        let at = self.hosts.iter().position(|it| it.name == host)?;
        let section = self.hosts[at].in_posture(posture)?;
        let mut policy = self.clone();
        policy.hosts[at] = section;
        Some(policy)
    }
}
