//! What earlier commands left open: changes that wait, that are overdue, that nobody came to write
//! down.

use super::super::Failure;
use super::super::session::Session;
use super::back::{Back, Gone};
use super::clock::{now, since_boot};
use super::entries::recorded;
use super::{again, guard, stopped, was_in_force, watch};
use crate::store::{
    Docket, Entry, Home, Kind, Note, Pending, State, Watcher, origin, pending, set_pending,
    this_boot,
};
use rustix::process::geteuid;
use serde::Serialize;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::time::Duration;
use tipstaff_linux::ruleset;
use tipstaff_linux::{NetlinkSocket, Protocol};

/// How long a command that only looks after an overdue change waits for the docket.
const PATIENCE: Duration = Duration::from_secs(5);

/// What was done about a change.
#[derive(Debug, Serialize)]
pub struct Settled {
    /// `confirmed` or `reverted`.
    pub done: &'static str,
    /// The entry.
    pub entry: u64,
    /// The entry that is in force again; `null` if it was confirmed, or if that is none's policy.
    pub back_to: Option<u64>,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
}

/// What became of a change that seemed to wait.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Became {
    /// Its entry.
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
pub fn settle(home: &Home, docket: &mut Docket) -> Result<Option<Became>, Failure> {
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
            Back::of(home, docket.written(), &it).go(None)?;
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
        let arrived = arrived(home, &entry);
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
                back.go(None)?;
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
    if let Some(it) = waits
        && !it.watcher.is_some_and(Watcher::lives)
    {
        let back = Back::of(home, docket.written(), &it);
        let ready = watch::start(home, it.id, it.deadline, &back, false)?;
        let watcher = Some(ready.watcher);
        ready.let_go();
        set_pending(home, Some(&Pending { watcher, ..it }))?;
    }
    Ok(gone)
}

fn note_reverted(home: &Home, docket: &mut Docket, id: u64) -> Result<(), Failure> {
    if docket.written().entry(id).is_some() {
        docket.became(id, State::Reverted, &now())?;
    }
    set_pending(home, None)
}

/// The entry that was confirmed last, by the docket or, where that has lost it, by the note.
pub fn last_confirmed(home: &Home, docket: &Docket) -> Option<u64> {
    before(docket, Note::read(home).ok().flatten().map(|it| it.entry), u64::MAX)
}

/// The entry that was confirmed last before another one.
fn before(docket: &Docket, noted: Option<u64>, id: u64) -> Option<u64> {
    let confirmed = docket.entries().iter().filter(|it| it.state == State::Confirmed);
    confirmed.map(|it| it.id).chain(noted).filter(|&it| it < id).max()
}

/// Whether what an entry intended is in the kernel.
fn arrived(home: &Home, entry: &Entry) -> bool {
    let Ok(mut kernel) = NetlinkSocket::open(Protocol::Netfilter) else { return false };
    let Ok(found) = ruleset::read(&mut kernel) else { return false };
    match (entry.kind, found) {
        (Kind::Release, found) => found.is_none(),
        (_, None) => false,
        (_, Some(found)) => recorded(home, entry).is_ok_and(|policy| was_in_force(&policy, &found)),
    }
}

/// Does what is overdue, and starts a watcher where one was ended: for commands that otherwise only
/// look. Whoever may not is passed over; the next one may.
pub fn look_after(home: &Home) {
    if settle_what_waits(home) && again::interfaces_moved(home) {
        // Whoever looks sees by what the kernel holds if this did not work.
        let _ = again::boot_if_gone(home);
    }
}

/// Does what is overdue; gives whether the docket is the caller's.
pub fn settle_what_waits(home: &Home) -> bool {
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
    if ours && !well {
        let (mut docket, _) = Docket::open_anyway(home, PATIENCE);
        let _ = settle(home, &mut docket);
    }
    ours
}

fn nothing_waits(gone: Option<Became>) -> Failure {
    match gone {
        Some(Became { entry: id, state: State::Reverted, .. }) => stopped(
            format!("it is too late: entry {id} was not confirmed in time, and went back"),
            vec!["enforce it again".into(), "`tipstaff docket` shows what is in force".into()],
        ),
        _ => Failure::usage(
            "nothing waits to be confirmed",
            "`tipstaff docket` shows what became of the last change",
        ),
    }
}

/// Keeps the change that waits, if it is still what the kernel holds and nobody would be shut out.
///
/// # Errors
/// [`Failure`] if none waits, its time is over, the kernel holds something else, or the guard finds
/// that a session could not be opened again.
pub fn confirm(home: &Home, even_if_locked_out: bool) -> Result<Settled, Failure> {
    let mut docket = Docket::open(home)?;
    let gone = settle(home, &mut docket)?;
    let waits = pending(home).map_err(|why| Failure::System {
        message: format!("what waits cannot be read: {why}"),
        help: vec!["it goes back by itself; then enforce again".into()],
    })?;
    let Some(waits) = waits else {
        return match gone {
            // Said before, by a command that was stopped right behind it.
            Some(Became { entry, state: State::Confirmed, .. }) => {
                let remarks = noted(home, &docket, entry).into_iter().collect();
                Ok(Settled { done: "confirmed", entry, back_to: None, remarks })
            }
            gone => Err(nothing_waits(gone)),
        };
    };
    let entry = docket.written().entry(waits.id).cloned();
    let entry = entry.ok_or_else(|| stopped("the docket has lost what waits", left(&waits)))?;
    let found = ruleset::read(&mut NetlinkSocket::open(Protocol::Netfilter)?)?;
    let mut remarks = Vec::new();
    if entry.kind == Kind::Release {
        if found.is_some() {
            let message = "the kernel holds rules of ours again: somebody put them back";
            return Err(stopped(message, left(&waits)));
        }
    } else {
        let policy = recorded(home, &entry)?;
        let Some(found) = found else {
            let message = format!(
                "the kernel does not hold what entry {} put there: somebody has taken it out",
                entry.id
            );
            return Err(stopped(message, left(&waits)));
        };
        if !was_in_force(&policy, &found) {
            let message = format!(
                "the kernel holds something else than what entry {} put there: somebody has \
                 changed it",
                entry.id
            );
            return Err(stopped(message, left(&waits)));
        }
        if !even_if_locked_out {
            guard::guard(&policy)?;
        }
    }
    if Session::own_since().is_some_and(|began| began < waits.made) {
        remarks.push(
            "this session is older than the change: it proves nothing; open a new one to be sure"
                .into(),
        );
    }
    if since_boot() >= waits.deadline {
        return Err(nothing_waits(settle(home, &mut docket)?));
    }
    docket.became(waits.id, State::Confirmed, &now())?;
    set_pending(home, None)?;
    remarks.extend(noted(home, &docket, waits.id));
    Ok(Settled { done: "confirmed", entry: waits.id, back_to: None, remarks })
}

/// Notes for the boot what was confirmed; says if that cannot be done.
pub fn noted(home: &Home, docket: &Docket, id: u64) -> Option<String> {
    let entry = docket.written().entry(id)?;
    let error = Note::of(entry).write(home).err()?;
    let path = home.note.as_ref()?.display();
    Some(format!(
        "{path} cannot be written ({error}): if the docket is lost too, a boot will not know what \
         was confirmed"
    ))
}

fn left(waits: &Pending) -> Vec<String> {
    let seconds = waits.deadline.saturating_sub(since_boot()).div_ceil(1_000);
    vec![
        "look with `tipstaff status`".into(),
        format!("it goes back by itself in {seconds} seconds, or at once with `tipstaff revert`"),
        "nothing was changed".into(),
    ]
}

/// Goes back at once from the change that waits; `None` if none does.
///
/// # Errors
/// [`Failure`] if the kernel refuses.
pub fn revert_pending(home: &Home) -> Result<Option<Settled>, Failure> {
    let (mut docket, mut remarks) = Docket::open_anyway(home, PATIENCE);
    let became = settle(home, &mut docket)?;
    let Ok(Some(waits)) = pending(home) else {
        let gone = became.filter(|it| it.state == State::Reverted);
        let done = "reverted";
        return Ok(gone.map(|it| Settled { done, entry: it.entry, back_to: it.back_to, remarks }));
    };
    let back = Back::of(home, docket.written(), &waits);
    let Gone { went, trouble, .. } = back.go(None)?;
    remarks.extend(trouble);
    remarks.extend(went.trouble(waits.back_to));
    if let Err(failure) = note_reverted(home, &mut docket, waits.id) {
        remarks.push(failure.line());
    }
    let back_to = went.entry();
    Ok(Some(Settled { done: "reverted", entry: waits.id, back_to, remarks }))
}
