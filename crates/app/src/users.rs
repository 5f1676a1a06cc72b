//! Names of users.

use std::collections::BTreeMap;
use tipstaff_linux::Machine;

/// The names in a machine's list of users, by number.
pub(crate) struct Users(BTreeMap<u32, String>);

impl Users {
    /// Asks for the list; without one, users go by their numbers.
    pub(crate) fn of(machine: &dyn Machine) -> Self {
        Self(machine.users())
    }

    /// The user's name, or the number where there is none.
    pub(crate) fn name(&self, uid: u32) -> String {
        self.0.get(&uid).cloned().unwrap_or_else(|| uid.to_string())
    }
}
