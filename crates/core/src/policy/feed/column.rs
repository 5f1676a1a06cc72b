//! Tables: one column of a file of comma-separated values.

use super::{BadLine, Found, Refused, shown};
use crate::space::AddressSet;

/// Reads the column of that name, by the first line's names; fields without anything in them are passed over. Every
/// line has as many fields as the first.
///
/// # Errors
/// Which lines are none, or that there is no such column.
///
/// # References
/// RFC 4180.
pub fn column(text: &str, name: &str, cut_off_is_fine: bool) -> Result<AddressSet, Refused> {
    let mut reader = csv::ReaderBuilder::new().from_reader(text.as_bytes());
    let whole = |why: String| Refused { first: vec![BadLine { line: 0, why }], count: 1 };
    let head = reader.headers().map_err(|_| whole("its first line is no list of names".into()))?;
    let at = head.iter().position(|it| it.trim() == name).ok_or_else(|| {
        let known: Vec<String> = head.iter().take(12).map(|it| shown(it.trim())).collect();
        whole(format!("it has no column `{}`; there are: {}", shown(name), known.join(", ")))
    })?;
    let mut found = Found::default();
    for record in reader.records() {
        match record {
            Ok(record) => {
                let line =
                    record.position().map_or(0, |it| usize::try_from(it.line()).unwrap_or(0));
                let term = record.get(at).unwrap_or_default().trim();
                if !term.is_empty() {
                    found.term(line, term);
                }
            }
            Err(error) => {
                let line = error.position().map_or(0, csv::Position::line);
                found.bad(
                    usize::try_from(line).unwrap_or(0),
                    "has not as many fields as the first".into(),
                );
            }
        }
    }
    if !cut_off_is_fine && !text.ends_with('\n') {
        found.bad(text.lines().count(), "has no end: the file may be cut off".into());
    }
    found.done()
}
