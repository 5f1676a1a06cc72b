//! Lists: one address, network or range a line.

use super::{Found, Refused};
use crate::space::AddressSet;

/// Reads a list; what is behind a `#` is a remark. The last line has an end like the others: without it the file
/// may have been cut off within an address, unless that is `cut_off_is_fine`.
///
/// # Errors
/// Which lines are none.
pub fn list(text: &str, cut_off_is_fine: bool) -> Result<AddressSet, Refused> {
    let mut found = Found::default();
    let mut last = 0;
    for (at, line) in text.lines().enumerate() {
        last = at + 1;
        let term = line.split('#').next().unwrap_or_default().trim();
        if !term.is_empty() {
            found.term(last, term);
        }
    }
    if !cut_off_is_fine && !text.is_empty() && !text.ends_with('\n') {
        found.bad(last, "has no end: the file may be cut off".into());
    }
    found.done()
}
