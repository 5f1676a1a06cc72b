//! Rates such as `5/second` or `6/minute, burst 4`.

use super::{Diagnostic, Origin};
use serde::{Deserialize, Serialize};
use std::fmt;

/// How often something may happen: a token bucket that fills at `count` per `seconds` and
/// holds `burst` tokens.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Rate {
    /// How many, at least 1.
    pub count: u32,
    /// In how many seconds: 1, 60, 3,600 or 86,400.
    pub seconds: u32,
    /// How many may come at once, at least 1.
    pub burst: u32,
    /// Whether each sender has a bucket of its own: each IPv4 address, and in IPv6 each network
    /// of 64 bits, since a machine can have any number of addresses there.
    pub per_source: bool,
}

/// Why a text is not a rate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RateError {
    /// It is not `NUMBER/UNIT`.
    Form,
    /// The number is 0 or larger than [`Rate::MOST`].
    Count,
    /// The unit is not second, minute, hour or day, or something else than `per source` follows.
    Unit,
    /// What stands after the comma is not `burst NUMBER`, or the number is 0 or too large.
    Burst,
}

impl RateError {
    /// What is wrong with a text that ought to be a rate; `or` names what else could stand there.
    pub(super) fn problem(self, found: &str, origin: Origin, or: &str) -> Diagnostic {
        let problem = Diagnostic::error("bad-rate", format!("`{found}` is not a rate"), origin);
        match self {
            Self::Form => problem.expected(format!("expected {or}a rate such as `5/second`")),
            Self::Count => problem.expected(format!("the number goes from 1 to {}", Rate::MOST)),
            Self::Unit => problem.expected(
                "the unit is `second`, `minute`, `hour` or `day`, and `per source` may follow",
            ),
            Self::Burst => problem
                .expected(format!("after the comma: `burst` and a number up to {}", Rate::MOST)),
        }
    }
}

const UNITS: [(&str, u32); 4] = [("second", 1), ("minute", 60), ("hour", 3_600), ("day", 86_400)];

impl Rate {
    /// The largest count and burst that can be written.
    pub const MOST: u32 = 1_000_000;

    /// Reads `NUMBER/UNIT`, optionally `per source`, optionally `, burst NUMBER`. Without a burst,
    /// as many may come at once as the count says.
    ///
    /// # Errors
    /// [`RateError`] says which part is wrong.
    pub fn parse(text: &str) -> Result<Self, RateError> {
        let (rate, burst) = match text.split_once(',') {
            Some((rate, burst)) => (rate.trim(), Some(burst.trim())),
            None => (text.trim(), None),
        };
        let (rate, per_source) = match rate.strip_suffix(" per source") {
            Some(rate) => (rate.trim_end(), true),
            None => (rate, false),
        };
        let (count, unit) = rate.split_once('/').ok_or(RateError::Form)?;
        let count = Self::number(count).ok_or(RateError::Count)?;
        let seconds = UNITS
            .iter()
            .find_map(|&(word, seconds)| (word == unit).then_some(seconds))
            .ok_or(RateError::Unit)?;
        let burst = match burst {
            None => count,
            Some(burst) => {
                burst.strip_prefix("burst ").and_then(Self::number).ok_or(RateError::Burst)?
            }
        };
        Ok(Self { count, seconds, burst, per_source })
    }

    fn number(text: &str) -> Option<u32> {
        let is_plain = text.bytes().all(|byte| byte.is_ascii_digit());
        text.parse().ok().filter(|number| is_plain && (1..=Self::MOST).contains(number))
    }
}

impl fmt::Display for Rate {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let unit = UNITS.iter().find(|unit| unit.1 == self.seconds);
        match unit {
            Some((word, _)) => write!(out, "{}/{word}", self.count)?,
            None => write!(out, "{}/{} seconds", self.count, self.seconds)?,
        }
        if self.per_source {
            out.write_str(" per source")?;
        }
        if self.burst != self.count {
            write!(out, ", burst {}", self.burst)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::{Rate, RateError};

    #[test]
    fn rates_are_read_as_they_are_printed() {
        for text in ["5/second", "6/minute, burst 4", "1/day", "6/minute per source, burst 4"] {
            assert_eq!(Rate::parse(text).map(|rate| rate.to_string()).as_deref(), Ok(text));
        }
        for (text, error) in [
            ("5", RateError::Form),
            ("0/second", RateError::Count),
            ("+5/second", RateError::Count),
            ("99999999999/second", RateError::Count),
            ("5/fortnight", RateError::Unit),
            ("5/second per sender", RateError::Unit),
            ("5/second, burst", RateError::Burst),
            ("5/second, burst 0", RateError::Burst),
        ] {
            assert_eq!(Rate::parse(text), Err(error), "{text}");
        }
    }
}
