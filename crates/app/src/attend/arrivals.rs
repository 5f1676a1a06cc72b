//! What begins to listen. To look whose sockets are takes long where there are many processes, so it is done when one
//! waits that did not before.

use crate::load_here;
use crate::newcomers::{self, Newcomer, newcomer};
use crate::store::Home;
use std::collections::HashSet;
use std::time::{Duration, Instant};
use tipstaff_linux::Machine;
use tipstaff_linux::sockets::Waiting;

/// So often it is looked anyway: a process may have handed its socket to another one.
const ANYWAY: Duration = Duration::from_secs(60);

/// What waited when it was looked last.
#[derive(Default)]
pub(super) struct Arrivals {
    known: HashSet<Waiting>,
    looked: Option<Instant>,
}

impl Arrivals {
    /// What listens that did not before. Who cannot look now may the next time.
    pub(super) fn see_to(&mut self, machine: &dyn Machine, home: &Home) -> Vec<Newcomer> {
        let waiting = newcomers::waiting(machine);
        let recent = self.looked.is_some_and(|it| it.elapsed() < ANYWAY);
        if recent && waiting.as_ref().is_some_and(|it| it.is_subset(&self.known)) {
            // Who is gone may come back as another one.
            self.known = waiting.unwrap_or_default();
            return Vec::new();
        }
        let Ok(seen) = newcomers::look(machine, home) else { return Vec::new() };
        // What came while it was looked is not among these, and is looked at the next time.
        self.known = waiting.unwrap_or_default();
        self.looked = Some(Instant::now());
        if seen.new.is_empty() {
            return Vec::new();
        }
        let policy =
            home.policy.as_ref().and_then(|it| load_here(machine, &it.0, it.1.as_deref()).ok());
        seen.new.iter().map(|it| newcomer(it, true, policy.as_ref())).collect()
    }
}
