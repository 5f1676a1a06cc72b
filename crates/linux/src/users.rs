//! Names of users.

use std::collections::BTreeMap;
use std::fs;

/// The names in the system's list of users (passwd(5)), by number; none without a list.
pub(crate) fn users() -> BTreeMap<u32, String> {
    let text = fs::read_to_string("/etc/passwd").unwrap_or_default();
    let mut found = BTreeMap::new();
    for line in text.lines() {
        let mut fields = line.split(':');
        if let (Some(name), Some(number)) = (fields.next(), fields.nth(1))
            && let Ok(number) = number.parse()
        {
            found.insert(number, name.to_owned());
        }
    }
    found
}
