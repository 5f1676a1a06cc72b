//! Spans of time as people write them.

use jiff::{SpanRelativeTo, SpanRound, Timestamp, Unit};
use std::time::Duration;

/// Reads `90`, `90s`, `5m`, `1h30m` or `2 days`; a number alone is seconds.
///
/// # Errors
/// What was expected, if it is none.
pub fn span(text: &str) -> Result<Duration, String> {
    let expected = || "expected a span of time such as 90s, 5m, 1h30m or \"2 days\"".to_owned();
    if let Ok(seconds) = text.parse::<f64>() {
        return Duration::try_from_secs_f64(seconds).map_err(|_| expected());
    }
    let span = text.trim().parse::<jiff::Span>().map_err(|_| expected())?;
    let days = SpanRelativeTo::days_are_24_hours();
    let span = span.round(SpanRound::new().largest(Unit::Second).relative(days));
    let span = span.and_then(|it| it.to_duration(days)).map_err(|_| expected())?;
    Duration::try_from(span).map_err(|_| expected())
}

/// How long something is to hold: from a second to a year.
///
/// # Errors
/// What was expected, if it is none.
pub fn lasting(text: &str) -> Result<Duration, String> {
    let most = Duration::from_secs(366 * 86_400);
    match span(text)? {
        it if (Duration::from_secs(1)..=most).contains(&it) => Ok(it),
        _ => Err("expected a time from a second to 366 days".into()),
    }
}

/// A moment as it is written in a policy; `+2h` is one that is so far from now.
///
/// # Errors
/// What was expected, if it is none. What does not begin with `+` is left to the policy's reader.
pub fn moment(text: &str) -> Result<String, String> {
    let Some(later) = text.strip_prefix('+') else { return Ok(text.to_owned()) };
    let span = span(later)?;
    let then = Timestamp::now().checked_add(span).ok();
    let then = then.and_then(|it| Timestamp::from_second(it.as_second()).ok());
    then.map(|it| it.to_string()).ok_or_else(|| "that is too far from now".to_owned())
}

#[cfg(test)]
mod tests {
    use super::{moment, span};

    #[test]
    fn spans_are_read_as_people_write_them() {
        for (text, seconds) in [
            ("90", 90),
            ("90s", 90),
            ("5m", 300),
            ("1h30m", 5_400),
            ("1h 30m", 5_400),
            ("2 days", 172_800),
            ("1 day, 2 hours", 93_600),
            ("1w", 604_800),
            ("PT1H", 3_600),
            ("1500ms", 1),
        ] {
            assert_eq!(span(text).map(|it| it.as_secs()), Ok(seconds), "{text}");
        }
        assert_eq!(span("0.5").map(|it| it.as_millis()), Ok(500));
        for text in ["", "soon", "-5m", "-1", "5 moons", "1 month", "nan", "1e300"] {
            assert!(span(text).is_err(), "{text}");
        }
    }

    #[test]
    fn moments_can_be_told_from_now() {
        assert_eq!(moment("2126-12-24T18:00:00Z").as_deref(), Ok("2126-12-24T18:00:00Z"));
        let now = jiff::Timestamp::now().as_second();
        let later = moment("+2h").expect("a moment");
        let then = later.parse::<jiff::Timestamp>().expect("a moment").as_second();
        assert!((7_199..=7_205).contains(&(then - now)), "{later}");
        assert!(!later.contains('.') && later.ends_with('Z'), "{later}");
        assert!(moment("+soon").is_err() && moment("+99999999w").is_err());
    }
}
