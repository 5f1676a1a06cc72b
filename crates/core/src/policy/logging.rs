//! Which decisions the kernel is to report, and how many of them: `log` and `log-at-most` of a host.

use super::{Rate, Time};
use serde::{Deserialize, Serialize};

/// Which decisions are reported, and how many at most.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Logging {
    /// Which.
    pub level: Level,
    /// How many at most, all together.
    pub total: Rate,
    /// How many at most of one sender.
    pub each: Rate,
    /// Until when all are, whatever the level is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub all_until: Option<Time>,
}

/// Which decisions are reported.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Level {
    /// None.
    Nothing,
    /// Those that turn away.
    Denied,
    /// Those that admit new connections as well.
    All,
}

impl Level {
    /// All of them, the least first.
    pub const ALL: [Self; 3] = [Self::Nothing, Self::Denied, Self::All];

    /// The word for it in policies.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Nothing => "nothing",
            Self::Denied => "denied",
            Self::All => "all",
        }
    }

    fn covers(self, admitted: bool) -> bool {
        self == Self::All || (self == Self::Denied && !admitted)
    }
}

impl Logging {
    /// What is reported where nothing is written, and how much at most where only the level is.
    pub const USUAL: Self = Self {
        level: Level::Nothing,
        total: Rate { count: 100, seconds: 1, burst: 1_000, per_source: false },
        each: Rate { count: 60, seconds: 60, burst: 60, per_source: true },
        all_until: None,
    };

    /// Whether decisions of that kind are reported; with a moment, until then.
    #[must_use]
    pub fn reports(&self, admitted: bool) -> Option<Option<Time>> {
        match self.level.covers(admitted) {
            true => Some(None),
            false => self.all_until.map(Some),
        }
    }

    /// What is reported at all; `None`: nothing.
    #[must_use]
    pub fn of_anything(self) -> Option<Self> {
        (self.level != Level::Nothing || self.all_until.is_some()).then_some(self)
    }

    /// What is reported whatever the time is; `None`: nothing.
    #[must_use]
    pub fn standing(self) -> Option<Self> {
        Self { all_until: None, ..self }.of_anything()
    }
}

#[cfg(test)]
mod tests {
    use super::{Level, Logging};
    use crate::policy::Time;

    #[test]
    fn what_is_raised_for_a_time_leaves_what_stands() {
        let until = Time::from_seconds(1_800_000_000);
        let raised = |level| Logging { level, all_until: Some(until), ..Logging::USUAL };
        let both = |it: Logging| [it.reports(false), it.reports(true)];
        assert_eq!(both(Logging::USUAL), [None, None]);
        assert_eq!(both(raised(Level::Nothing)), [Some(Some(until)), Some(Some(until))]);
        assert_eq!(both(raised(Level::Denied)), [Some(None), Some(Some(until))]);
        assert_eq!(both(raised(Level::All)), [Some(None), Some(None)]);
        assert_eq!(raised(Level::Nothing).standing(), None);
        let denied = Logging { level: Level::Denied, ..Logging::USUAL };
        assert_eq!(raised(Level::Denied).standing(), Some(denied));
        assert_eq!(Logging::USUAL.of_anything(), None);
    }
}
