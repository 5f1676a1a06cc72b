//! What the kernel is to remember of who came: `record` and `record-for`.

use serde::{Deserialize, Serialize};
use std::fmt;

/// Whom the kernel remembers, and for how long.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Record {
    /// Whether also those are remembered who were admitted, not only those who were not.
    pub admitted: bool,
    /// For how many seconds after they came last.
    pub keeps: u32,
}

impl Record {
    /// What is remembered where nothing is written: who was not admitted, for 7 days.
    pub const USUAL: Self = Self { admitted: false, keeps: 7 * 86_400 };
    /// The shortest time that can be written, in seconds.
    pub const SHORTEST: u32 = 60;
    /// The longest, likewise.
    pub const LONGEST: u32 = 366 * 86_400;
}

/// The words of the key `record`.
pub(super) const RECORDS: [&str; 3] = ["denied", "all", "off"];

/// A length of time such as `7 days`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Span {
    /// How many seconds it has.
    pub seconds: u32,
}

const UNITS: [(&str, u32); 4] = [("day", 86_400), ("hour", 3_600), ("minute", 60), ("second", 1)];

impl Span {
    /// Reads `NUMBER UNIT`: seconds, minutes, hours or days, with or without the `s`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let (number, unit) = text.trim().split_once(' ')?;
        let unit = unit.trim_start();
        let unit = unit.strip_suffix('s').unwrap_or(unit);
        let seconds = UNITS.iter().find(|it| it.0 == unit)?.1;
        let plain = number.bytes().all(|it| it.is_ascii_digit());
        let number: u32 = number.parse().ok().filter(|it| plain && *it > 0)?;
        Some(Self { seconds: number.checked_mul(seconds)? })
    }
}

impl fmt::Display for Span {
    /// `7 days`, in the largest unit that says it exactly.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let whole = |it: &&(&str, u32)| self.seconds.is_multiple_of(it.1);
        let (word, unit) = UNITS.iter().find(whole).copied().unwrap_or(("second", 1));
        let number = self.seconds / unit;
        let several = if number == 1 { "" } else { "s" };
        write!(out, "{number} {word}{several}")
    }
}

#[cfg(test)]
mod tests {
    use super::Span;

    #[test]
    fn spans_are_read_as_they_are_printed() {
        for (text, seconds) in
            [("7 days", 604_800), ("1 day", 86_400), ("36 hours", 129_600), ("90 seconds", 90)]
        {
            let span = Span::parse(text).map(|it| (it.seconds, it.to_string()));
            assert_eq!(span, Some((seconds, text.to_owned())));
        }
        for text in ["", "7", "7days", "0 days", "-1 days", "+1 day", "1 week", "99999999 days"] {
            assert_eq!(Span::parse(text), None, "{text}");
        }
    }
}
