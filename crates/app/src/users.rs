//! Names of users.

use std::collections::HashMap;
use std::fs;

/// The names in the system's list of users (passwd(5)), by number.
pub struct Users(HashMap<u32, String>);

impl Users {
    /// Reads the list; without one, users go by their numbers.
    pub fn read() -> Self {
        let text = fs::read_to_string("/etc/passwd").unwrap_or_default();
        let entries = text.lines().filter_map(|line| {
            let mut fields = line.split(':');
            let name = fields.next()?;
            let number = fields.nth(1)?.parse().ok()?;
            Some((number, name.to_owned()))
        });
        Self(entries.collect())
    }

    /// The user's name, or the number where there is none.
    pub fn name(&self, uid: u32) -> String {
        self.0.get(&uid).cloned().unwrap_or_else(|| uid.to_string())
    }
}
