//! What a command that only looks does for changes that wait.

use super::again::{boot_if_gone, interfaces_moved};
use super::following::follow;
use super::settle::settle_what_waits;
use crate::programs;
use crate::store::Home;
use tipstaff_linux::Machine;

/// Does what is overdue, and starts a watcher where one was ended: for commands that otherwise only
/// look. Whoever may not is passed over; the next one may.
pub fn look_after(machine: &dyn Machine, home: &Home) {
    // Where somebody attends, this is done by now.
    let _ = follow(machine, home);
    let _ = programs::refresh_if_stale(machine, home);
    if settle_what_waits(machine, home) && interfaces_moved(machine, home) {
        // Whoever looks sees by what the kernel holds if this did not work.
        let _ = boot_if_gone(machine, home);
    }
}
