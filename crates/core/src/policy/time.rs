//! Moments, such as the one at which a rule ends.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fmt;

const LAST: i64 = 18_446_744_073;

/// A moment, in whole seconds since 1970-01-01T00:00:00Z.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Time(i64);

impl Time {
    /// The moment so many seconds after 1970-01-01T00:00:00Z.
    #[must_use]
    pub const fn from_seconds(seconds: i64) -> Self {
        Self(seconds)
    }

    /// How many seconds it is after 1970-01-01T00:00:00Z.
    #[must_use]
    pub fn seconds(self) -> i64 {
        self.0
    }

    /// Reads `2026-12-24T18:00:00Z` or `2026-12-24T19:00:00+01:00`. Parts of a second are left
    /// out. A time without its distance from UTC is none: it would depend on the machine. So is one
    /// that does not fit 64 bits of nanoseconds, as from the year 2554 on.
    ///
    /// # References
    /// RFC 3339 section 5.6.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let seconds = text.parse::<Timestamp>().ok()?.as_second();
        (seconds < LAST).then_some(Self(seconds))
    }
}

impl fmt::Display for Time {
    /// As RFC 3339 has it: `2026-12-24T18:00:00Z`.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match Timestamp::from_second(self.0) {
            Ok(time) => time.fmt(out),
            Err(_) => write!(out, "{} seconds after 1970", self.0),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::Time;

    #[test]
    fn times_are_read_with_their_distance_from_utc_only() {
        let written = |text| Time::parse(text).map(|time| time.to_string());
        let same = Some("2026-12-24T18:00:00Z".to_owned());
        assert_eq!(written("2026-12-24T18:00:00Z"), same);
        assert_eq!(written("2026-12-24T19:00:00+01:00"), same);
        for text in
            ["2026-12-24", "2026-12-24T18:00:00", "18:00", "tomorrow", "", "2600-01-01T00:00:00Z"]
        {
            assert_eq!(Time::parse(text), None, "{text}");
        }
    }
}
