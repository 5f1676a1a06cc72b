//! `watch`: decisions as they are made.

mod decision;
mod filter;

pub use decision::Decision;
pub use filter::Filter;

use super::ask;
use super::{Failure, Loaded};
use crate::callers::Places;
use jiff::Timestamp;
use std::time::Duration;
use tipstaff_core::program::Action;
use tipstaff_linux::Machine;
use tipstaff_linux::watching::{Losses, Watcher};

/// Watches the decisions of the rules in force.
pub struct Watching {
    watch: Box<dyn Watcher>,
    /// The host whose rules are in force.
    pub host: String,
    /// The policy, for names of places and what would change; `None` if it cannot be read.
    pub loaded: Option<Loaded>,
    /// Why not.
    pub without_policy: Option<String>,
    /// What is to be known of what will be seen, as a whole sentence.
    pub remark: Option<String>,
}

/// Begins to watch, all decisions or those that the policy has reported (`logged`). Nothing is left in the kernel once this is dropped, or the process ends, however it does.
///
/// # Errors
/// [`Failure`] if no rules are in force, or the kernel refuses.
pub fn begin(
    machine: &dyn Machine,
    policy: Result<Loaded, Failure>,
    logged: bool,
) -> Result<Watching, Failure> {
    let held = machine.rules()?.filter(|it| !it.dormant);
    let Some(held) = held else {
        return Err(Failure::stopped(
            "no rules are in force, so nothing is decided",
            vec!["`tipstaff enforce` puts rules in force".into()],
        ));
    };
    let watch = machine.watch(logged)?;
    let rules = || held.program.chains.iter().flat_map(|it| &it.rules);
    let reports =
        held.program.logging.is_some() || rules().any(|it| matches!(it.action, Action::Log(_)));
    let remark = (logged && !reports).then(|| {
        "the rules in force report nothing: `log` in the host's section has them do so, or for a time \
         `tipstaff enforce --log-for 1h`"
            .to_owned()
    });
    let (loaded, without_policy) = match policy {
        Ok(loaded) => (Some(loaded), None),
        Err(failure) => (None, Some(failure.line())),
    };
    Ok(Watching { watch, host: held.host, loaded, without_policy, remark })
}

impl Watching {
    /// The decisions made meanwhile; waits for the first, but no longer than so.
    ///
    /// # Errors
    /// [`Failure`] if the kernel tells nothing any more.
    pub fn next(&mut self, patience: Duration) -> Result<Vec<Decision>, Failure> {
        let seen = self.watch.next(patience)?;
        Ok(self.told(seen))
    }

    /// How many decisions there were, and how many of them were not seen; and those that came while that was asked.
    ///
    /// # Errors
    /// [`Failure`] if the kernel does not tell.
    pub fn losses(&mut self) -> Result<(Losses, Vec<Decision>), Failure> {
        let mut seen = Vec::new();
        let losses = self.watch.losses(&mut seen)?;
        Ok((losses, self.told(seen)))
    }

    /// Ends, and tells the same.
    ///
    /// # Errors
    /// As for [`Self::losses`].
    pub fn end(&mut self) -> Result<(Losses, Vec<Decision>), Failure> {
        let mut seen = Vec::new();
        let losses = self.watch.end(&mut seen)?;
        Ok((losses, self.told(seen)))
    }

    /// In words, but for what keeps the network working: the record leaves that out, too.
    fn told(&self, seen: Vec<tipstaff_linux::watching::Seen>) -> Vec<Decision> {
        if seen.is_empty() {
            return Vec::new();
        }
        let time = format!("{:.3}", Timestamp::now());
        let places = Places::of(self.loaded.as_ref().map(|it| &it.policy));
        let matter = seen.into_iter().filter(tipstaff_linux::watching::Seen::matters);
        matter.map(|it| Decision::of(it, &time, &places)).collect()
    }

    /// The command that would admit exactly this, if it was turned away, and the one that would turn its sender
    /// away for good.
    pub fn advice(&self, decision: &Decision) -> (Option<String>, Option<String>) {
        self.loaded.as_ref().map_or((None, None), |it| decision::advice(it, decision))
    }

    /// How a decision comes about by the policy; `None` without one.
    pub fn path(&self, decision: &Decision) -> Option<ask::Report> {
        self.loaded.as_ref().map(|it| ask::about(it, decision.packet()))
    }
}
