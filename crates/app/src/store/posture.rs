//! The posture that an entry of the docket is in.

use super::home::this_boot;
use super::process::Watcher;
use serde::{Deserialize, Serialize};
use tipstaff_core::policy::{Taken, Time};

/// A posture as it was taken.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct InPosture {
    /// Its name in the policy.
    pub name: String,
    /// Since when (RFC 3339).
    pub since: String,
    /// When it ends by itself; `null`: when it is left, or with a command.
    pub until: Option<String>,
    /// The same by the clock that counts from boot and cannot be set, in milliseconds.
    pub deadline: Option<u64>,
    /// The command with which it ends, if it does so.
    pub ends_with: Option<Watcher>,
    /// Why it was taken, in the words of whoever took it; may be empty.
    pub why: String,
    /// Whether somebody took it, where others hold by themselves.
    #[serde(default)]
    pub by_hand: bool,
    /// The posture without an end in which it was taken, and that holds again once it is over; `null`: none.
    #[serde(default)]
    pub then: Option<Behind>,
}

/// A posture behind one that ends.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Behind {
    /// Its name in the policy.
    pub name: String,
    /// Since when (RFC 3339).
    pub since: String,
}

impl InPosture {
    /// One of which nothing is known but what the kernel says.
    pub fn of(taken: &Taken) -> Self {
        Self {
            name: taken.name.clone(),
            since: taken.since.to_string(),
            until: taken.until.map(|it| it.to_string()),
            deadline: None,
            ends_with: None,
            why: taken.why.clone(),
            by_hand: false,
            then: taken
                .then
                .as_ref()
                .map(|it| Behind { name: it.name.clone(), since: it.since.to_string() }),
        }
    }

    /// The one that holds once it is over.
    pub fn behind(&self) -> Option<Self> {
        let Behind { name, since } = self.then.clone()?;
        let why = String::new();
        Some(Self {
            name,
            since,
            until: None,
            deadline: None,
            ends_with: None,
            why,
            by_hand: false,
            then: None,
        })
    }

    /// The posture that is in force by now of something that was written down in it: in the boot in which it was, or
    /// in a later one.
    pub fn by_now(&self, of_this_boot: bool, now: Time, since_boot: u64) -> Option<Self> {
        let goes_on = if of_this_boot { !self.is_over(now, since_boot) } else { self.lasts() };
        if goes_on { Some(self.clone()) } else { self.behind() }
    }

    /// What the kernel is to be told; `None` if a moment in it cannot be read.
    pub fn taken(&self) -> Option<Taken> {
        let until = match &self.until {
            Some(until) => Some(Time::parse(until)?),
            None => None,
        };
        let since = Time::parse(&self.since)?;
        let then = match self.behind() {
            Some(behind) => Some(Box::new(behind.taken()?)),
            None => None,
        };
        Some(Taken { name: self.name.clone(), since, until, why: self.why.clone(), then })
    }

    /// Whether it holds until somebody leaves it, also over a reboot.
    pub fn lasts(&self) -> bool {
        self.until.is_none() && self.ends_with.is_none()
    }

    /// Whether it is over, by `now` or, at `since_boot` milliseconds, by the clock that cannot be set, or since the
    /// command is gone.
    pub fn is_over(&self, now: Time, since_boot: u64) -> bool {
        let ended = |it: Taken| !it.holds_at(now);
        self.taken().is_none_or(ended)
            || self.deadline.is_some_and(|it| since_boot >= it)
            || self.ends_with.is_some_and(|it| !it.lives())
    }
}

/// The posture that something in the docket is in, and the boot in which it was made.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Situation {
    /// The posture; `None`: in none.
    pub posture: Option<InPosture>,
    /// The boot.
    pub boot: Option<String>,
}

impl Situation {
    /// Whether the machine has not been booted since.
    pub fn is_of_this_boot(&self) -> bool {
        self.boot.as_ref().is_some_and(|it| *it == this_boot())
    }
}
