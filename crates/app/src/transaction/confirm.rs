//! The word on a change that waits: it stays, or it goes back now.

use super::back::{Back, Gone};
use super::clock::{now, since_boot};
use super::entries::recorded;
use super::guard;
use super::holds::was_in_force;
use super::noted::noted;
use super::settle::{Became, PATIENCE, note_reverted, settle};
use crate::Failure;
use crate::session::own_since;
use crate::store::{Docket, Home, Kind, Pending, State, pending, set_pending};
use crate::vocabulary as say;
use serde::Serialize;
use tipstaff_linux::Machine;

/// What was done about a change.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Settled {
    /// Whether it was confirmed or reverted.
    pub done: say::Decided,
    /// The number of the entry that it was.
    pub entry: u64,
    /// The entry that is in force again; `null` if it was confirmed, or if that is none's policy.
    pub back_to: Option<u64>,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
}

/// Keeps the change that waits, if it is still what the kernel holds and nobody would be shut out.
///
/// # Errors
/// [`Failure`] if none waits, its time is over, the kernel holds something else, or the guard finds
/// that a session could not be opened again.
pub fn confirm(
    machine: &dyn Machine,
    home: &Home,
    even_if_locked_out: bool,
) -> Result<Settled, Failure> {
    let mut docket = Docket::open(home)?;
    let gone = settle(machine, home, &mut docket)?;
    let waits = pending(home).map_err(|why| Failure::System {
        message: format!("what waits cannot be read: {why}"),
        help: vec!["it goes back by itself; then enforce again".into()],
    })?;
    let Some(waits) = waits else {
        return match gone {
            // Said before, by a command that was stopped right behind it.
            Some(Became { entry, state: State::Confirmed, .. }) => {
                let remarks = noted(home, &docket, entry).into_iter().collect();
                Ok(Settled { done: say::Decided::Confirmed, entry, back_to: None, remarks })
            }
            gone => Err(nothing_waits(gone)),
        };
    };
    let entry = docket.written().entry(waits.id).cloned();
    let entry =
        entry.ok_or_else(|| Failure::stopped("the docket has lost what waits", left(&waits)))?;
    let found = machine.rules()?;
    let mut remarks = Vec::new();
    if entry.kind == Kind::Release {
        if found.is_some() {
            let message = "the kernel holds rules of ours again: somebody put them back";
            return Err(Failure::stopped(message, left(&waits)));
        }
    } else {
        let policy = recorded(machine, home, &entry)?;
        let Some(found) = found else {
            let message = format!(
                "the kernel does not hold what entry {} put there: somebody has taken it out",
                entry.id
            );
            return Err(Failure::stopped(message, left(&waits)));
        };
        if !was_in_force(&policy, &found) {
            let message = format!(
                "the kernel holds something else than what entry {} put there: somebody has \
                 changed it",
                entry.id
            );
            return Err(Failure::stopped(message, left(&waits)));
        }
        if !even_if_locked_out {
            guard::guard(machine, &policy)?;
        }
    }
    if own_since(machine).is_some_and(|began| began < waits.made) {
        remarks.push(
            "this session is older than the change: it proves nothing; open a new one to be sure"
                .into(),
        );
    }
    if since_boot() >= waits.deadline {
        return Err(nothing_waits(settle(machine, home, &mut docket)?));
    }
    docket.became(waits.id, State::Confirmed, &now())?;
    set_pending(home, None)?;
    remarks.extend(noted(home, &docket, waits.id));
    Ok(Settled { done: say::Decided::Confirmed, entry: waits.id, back_to: None, remarks })
}

/// Goes back at once from the change that waits; `None` if none does.
///
/// # Errors
/// [`Failure`] if the kernel refuses.
pub fn revert_pending(machine: &dyn Machine, home: &Home) -> Result<Option<Settled>, Failure> {
    let (mut docket, mut remarks) = Docket::open_anyway(home, PATIENCE);
    let became = settle(machine, home, &mut docket)?;
    let Ok(Some(waits)) = pending(home) else {
        let gone = became.filter(|it| it.state == State::Reverted);
        let done = say::Decided::Reverted;
        return Ok(gone.map(|it| Settled { done, entry: it.entry, back_to: it.back_to, remarks }));
    };
    let back = Back::of(home, docket.written(), &waits);
    let Gone { went, trouble, .. } = back.go(machine, None)?;
    remarks.extend(trouble);
    remarks.extend(went.trouble(waits.back_to));
    if let Err(failure) = note_reverted(home, &mut docket, waits.id) {
        remarks.push(failure.line());
    }
    let back_to = went.entry();
    Ok(Some(Settled { done: say::Decided::Reverted, entry: waits.id, back_to, remarks }))
}

fn nothing_waits(gone: Option<Became>) -> Failure {
    match gone {
        Some(Became { entry: id, state: State::Reverted, .. }) => Failure::stopped(
            format!("it is too late: entry {id} was not confirmed in time, and went back"),
            vec!["enforce it again".into(), "`tipstaff docket` shows what is in force".into()],
        ),
        _ => Failure::usage(
            "nothing waits to be confirmed",
            "`tipstaff docket` shows what became of the last change",
        ),
    }
}

fn left(waits: &Pending) -> Vec<String> {
    let seconds = waits.deadline.saturating_sub(since_boot()).div_ceil(1_000);
    vec![
        "look with `tipstaff status`".into(),
        format!("it goes back by itself in {seconds} seconds, or at once with `tipstaff revert`"),
        "nothing was changed".into(),
    ]
}
