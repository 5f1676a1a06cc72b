//! A change that is to wait.

use super::back::Back;
use super::clock::{deadline, since_boot};
use super::request::Options;
use super::watch;
use crate::Failure;
use crate::store::{Docket, Pending, Watcher, set_pending, this_boot};

/// A change that is to wait.
pub(super) struct Waits {
    pub id: u64,
    pub back_to: Option<u64>,
    pub held: bool,
    pub shell: Vec<String>,
}

impl Waits {
    pub(super) fn pending(&self, made: u64, deadline: u64, watcher: Option<Watcher>) -> Pending {
        let (id, back_to, held, shell) = (self.id, self.back_to, self.held, self.shell.clone());
        Pending { id, deadline, boot: this_boot(), back_to, held, shell, made, watcher }
    }
}

/// Starts what watches over a change, and notes that it waits; gives the way back.
pub(super) fn watched(
    options: &Options<'_>,
    docket: &Docket,
    waits: &Waits,
) -> Result<Back, Failure> {
    let (made, deadline) = (since_boot(), deadline(options.within));
    let back = Back::of(options.home, docket.written(), &waits.pending(made, deadline, None));
    let ready = watch::start(options.home, waits.id, deadline, &back, true)?;
    let pending = waits.pending(made, deadline, Some(ready.watcher));
    // If that cannot be written, the watcher is called off here, and nothing was changed.
    set_pending(options.home, Some(&pending))?;
    ready.let_go();
    Ok(back)
}
