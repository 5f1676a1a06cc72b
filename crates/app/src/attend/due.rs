//! When it has to be looked where the machine is.

use crate::store::{Home, docket_stamp};
use std::time::{Duration, Instant, SystemTime};

/// How often it is looked where the machine is though nothing has happened.
const ANYWAY: Duration = Duration::from_secs(30);
/// What comes within this time counts as one.
pub(super) const TOGETHER: Duration = Duration::from_millis(30);
/// No more often than so it is looked where the machine is.
const BETWEEN: Duration = Duration::from_millis(400);

/// When it has to be looked again where the machine is: that takes as long as working out the policy.
#[derive(Default)]
pub(super) struct Due {
    /// Whether something has happened to links, addresses, routes or neighbours.
    pub moved: bool,
    /// When it was looked last, and what the docket's file was like then.
    last: Option<(Instant, Option<(SystemTime, u64)>)>,
}

impl Due {
    pub(super) fn is_now(&self, home: &Home) -> bool {
        let Some((when, docket)) = &self.last else { return true };
        self.moved || when.elapsed() >= ANYWAY || *docket != docket_stamp(home)
    }

    pub(super) fn done(&mut self, home: &Home) {
        *self = Self { moved: false, last: Some((Instant::now(), docket_stamp(home))) };
    }

    /// What comes together counts as one, and no more often than so; whoever makes a link busy, or files, does not make
    /// this busy.
    pub(super) fn rest(&self, files: bool) {
        let since = self.last.as_ref().map_or(Duration::ZERO, |it| it.0.elapsed());
        if files {
            std::thread::sleep(BETWEEN);
        } else if self.moved {
            std::thread::sleep(TOGETHER.max(BETWEEN.saturating_sub(since)));
        }
    }
}
