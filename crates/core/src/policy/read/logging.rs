//! The keys `log` and `log-at-most` of a host.

use super::super::table::{Reader, Table};
use super::super::{Diagnostic, Level, Logging, Rate};
use super::common::choice;

/// What is to be reported.
pub(super) fn logging(reader: &mut Reader<'_>, table: &Table<'_, '_>) -> Logging {
    let mut logging = Logging::USUAL;
    let word = table.text(reader, "log");
    let word =
        word.and_then(|it| choice(reader, &it, &Level::ALL.map(Level::as_str)).map(str::to_owned));
    let level = word.and_then(|it| Level::ALL.into_iter().find(|level| level.as_str() == it));
    logging.level = level.unwrap_or(logging.level);
    let mut written = [false; 2];
    for text in table.list(reader, "log-at-most").unwrap_or_default() {
        let origin = reader.origin(text.inner());
        let rate = match Rate::parse(&text.value) {
            Ok(rate) => rate,
            Err(error) => {
                reader.report(error.problem(&text.value, origin, ""));
                continue;
            }
        };
        if std::mem::replace(&mut written[usize::from(rate.per_source)], true) {
            let of = if rate.per_source { "one sender" } else { "all together" };
            let problem =
                Diagnostic::error("two-caps", format!("there is a cap for {of} already"), origin);
            reader.report(problem.expected("at most one rate, and one `per source`"));
            continue;
        }
        *(if rate.per_source { &mut logging.each } else { &mut logging.total }) = rate;
    }
    logging
}
