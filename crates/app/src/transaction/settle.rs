//! What earlier commands left open: changes that wait, that are overdue, that nobody came to write
//! down.

use super::super::Failure;
use super::back::Back;
use super::clock::{now, since_boot};
use super::entries::recorded;
use super::holds::was_in_force;
use super::over::{posture_is_over, settle_posture};
use super::watch;
use crate::store::{
    Docket, Entry, Home, Kind, Note, Pending, State, Watcher, origin, pending, set_pending,
    this_boot,
};
use rustix::process::geteuid;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::time::Duration;
use tipstaff_linux::Machine;

/// How long a command that only looks after an overdue change waits for the docket.
pub(super) const PATIENCE: Duration = Duration::from_secs(5);

/// What became of a change that seemed to wait.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Became {
    /// The number of the entry that was settled.
    pub entry: u64,
    /// What became of it.
    pub state: State,
    /// The entry that it was to go back to.
    pub back_to: Option<u64>,
}

/// Settles what a command that was killed, a watcher that was, or a reboot left open. Gives what became
/// of a change that seemed to wait.
///
/// # Errors
/// [`Failure`] if the kernel or the docket refuses.
pub(super) fn settle(
    machine: &dyn Machine,
    home: &Home,
    docket: &mut Docket,
) -> Result<Option<Became>, Failure> {
    settle_posture(machine, home, docket)?;
    let (waiting, readable) = match pending(home) {
        Ok(waiting) => (waiting, true),
        Err(_) => (None, false),
    };
    let mut gone = None;
    let mut waits = None;
    if let Some(it) = waiting {
        let state = docket.written().entry(it.id).map(|entry| entry.state);
        let became = |state| Some(Became { entry: it.id, state, back_to: it.back_to });
        if let Some(state @ (State::Confirmed | State::Reverted | State::Failed)) = state {
            // Whoever decided that did not come to take the note away.
            set_pending(home, None)?;
            gone = became(state);
        } else if it.boot != this_boot() {
            // What nobody confirmed before the machine went down counts as not confirmed.
            note_reverted(home, docket, it.id)?;
        } else if since_boot() >= it.deadline {
            Back::of(home, docket.written(), &it).go(machine, None)?;
            note_reverted(home, docket, it.id)?;
            gone = became(State::Reverted);
        } else {
            waits = Some(it);
        }
    }
    let noted = Note::read(home).ok().flatten().map(|it| it.entry);
    let open = |it: &&Entry| matches!(it.state, State::Intended | State::Pending);
    let open: Vec<Entry> = docket.entries().iter().filter(open).cloned().collect();
    for entry in open {
        let its_note = waits.as_ref().is_some_and(|it| it.id == entry.id);
        let arrived = arrived(machine, home, &entry);
        let waited = entry.waits || entry.state == State::Pending;
        let became = match (arrived, its_note) {
            (true, true) => State::Pending,
            (false, true) if entry.state == State::Pending => continue,
            (false, true) => {
                set_pending(home, None)?;
                waits = None;
                State::Failed
            }
            _ if noted == Some(entry.id) => State::Confirmed,
            // The note of it is lost, and with it when it was to go.
            (true, false) if waited => {
                let last = before(docket, noted, entry.id);
                let mut back = Back::to(home, docket.written(), last);
                if last.is_none() && !docket.written().lost.is_empty() {
                    // Something may have been confirmed before, and that is lost.
                    (back.take_out, back.shell) = (false, entry.shell.clone());
                }
                back.go(machine, None)?;
                let state = State::Reverted;
                gone = Some(Became { entry: entry.id, state, back_to: last });
                state
            }
            (false, false) if entry.state == State::Pending => State::Reverted,
            (true, false) => State::Confirmed,
            (false, false) => State::Failed,
        };
        if became != entry.state {
            docket.became(entry.id, became, &now())?;
        }
    }
    if !readable {
        set_pending(home, None)?;
    }
    // Whoever did not come to write the note of the boot is made up for.
    if let Some(last) = docket.confirmed()
        && noted.is_none_or(|noted| noted < origin(last))
    {
        let _ = Note::of(last).write(home);
    }
    if let Some(it) = waits.filter(|it| !it.watcher.is_some_and(Watcher::lives)) {
        watch_again(home, docket, it)?;
    }
    Ok(gone)
}

/// Starts another watcher for a change that waits and has none that lives.
fn watch_again(home: &Home, docket: &Docket, waits: Pending) -> Result<(), Failure> {
    let back = Back::of(home, docket.written(), &waits);
    let ready = watch::start(home, waits.id, waits.deadline, &back, false)?;
    let watcher = Some(ready.watcher);
    ready.let_go();
    set_pending(home, Some(&Pending { watcher, ..waits }))
}

pub(crate) fn note_reverted(home: &Home, docket: &mut Docket, id: u64) -> Result<(), Failure> {
    if docket.written().entry(id).is_some() {
        docket.became(id, State::Reverted, &now())?;
    }
    set_pending(home, None)
}

/// The entry that was confirmed last, by the docket or, where that has lost it, by the note.
pub(crate) fn last_confirmed(home: &Home, docket: &Docket) -> Option<u64> {
    before(docket, Note::read(home).ok().flatten().map(|it| it.entry), u64::MAX)
}

/// The entry that was confirmed last before another one.
fn before(docket: &Docket, noted: Option<u64>, id: u64) -> Option<u64> {
    let confirmed = docket.entries().iter().filter(|it| it.state == State::Confirmed);
    confirmed.map(|it| it.id).chain(noted).filter(|&it| it < id).max()
}

/// Whether what an entry intended is in the kernel.
fn arrived(machine: &dyn Machine, home: &Home, entry: &Entry) -> bool {
    let Ok(found) = machine.rules() else { return false };
    match (entry.kind, found) {
        (Kind::Release, found) => found.is_none(),
        (_, None) => false,
        (_, Some(found)) => {
            recorded(machine, home, entry).is_ok_and(|policy| was_in_force(&policy, &found))
        }
    }
}

/// Does what is overdue; gives whether the docket is the caller's.
pub(crate) fn settle_what_waits(machine: &dyn Machine, home: &Home) -> bool {
    let ours = fs::metadata(&home.folder).is_ok_and(|it| it.uid() == geteuid().as_raw());
    let well = match pending(home) {
        Ok(None) => true,
        Ok(Some(it)) => {
            it.boot == this_boot()
                && since_boot() < it.deadline
                && it.watcher.is_some_and(Watcher::lives)
        }
        Err(_) => false,
    };
    if ours && (!well || posture_is_over(machine, home)) {
        let (mut docket, _) = Docket::open_anyway(home, PATIENCE);
        let _ = settle(machine, home, &mut docket);
    }
    ours
}
