//! Postures that are over, and that nobody has left.

use super::clock::{now, since_boot};
use super::entries::{New, entry, in_any_posture};
use super::load::{Outcome, Seen, put_in_force};
use super::noted::noted;
use crate::store::{Docket, Entry, Home, InPosture, Kind, State, pending};
use crate::{Failure, Loaded, cut};
use tipstaff_core::policy::{Taken, Time};
use tipstaff_core::program::RuleProgram;
use tipstaff_linux::Machine;

/// The policy of an entry, in the posture that holds behind the one that is left; in none if there is none.
pub(super) fn behind(
    machine: &dyn Machine,
    home: &Home,
    last: &Entry,
    then: Option<&Taken>,
) -> Result<Loaded, Failure> {
    let mut policy = in_any_posture(home, last)?;
    policy.in_no_posture();
    if let Some(then) = then {
        policy.take(then)?;
    }
    policy.place(machine)?;
    Ok(policy)
}

/// The entry with which the posture that the kernel is in was taken or gone on with, whatever became of it, if that
/// posture is over: of whoever was killed on the way it may not be known that it was taken at all.
fn over<'e>(machine: &dyn Machine, entries: &'e [Entry]) -> Result<Option<&'e Entry>, Failure> {
    let Some((_, held)) = machine.posture()? else { return Ok(None) };
    let its = |it: &&Entry| {
        let taken = it.posture.as_ref().and_then(InPosture::taken);
        it.situation().is_of_this_boot() && taken.is_some_and(|it| it.is(&held))
    };
    let is_over =
        |it: &&Entry| it.posture.as_ref().is_some_and(|it| it.is_over(crate::now(), since_boot()));
    Ok(entries.iter().rev().find(its).filter(is_over))
}

/// Whether something is left to be done about a posture that is over.
pub(super) fn posture_is_over(machine: &dyn Machine, home: &Home) -> bool {
    // Mostly none is in force, which is asked at less cost.
    if !matches!(machine.posture(), Ok(Some(_))) {
        return false;
    }
    let written = Docket::look(home).unwrap_or_default();
    over(machine, &written.entries).is_ok_and(|it| it.is_some())
}

/// Leaves a posture that is over: in the kernel it is by its clock, but not where it ends with a command, or where
/// that clock was set back. Ends what only it admitted.
///
/// # Errors
/// [`Failure`] if the kernel or the docket refuses.
pub(super) fn settle_posture(
    machine: &dyn Machine,
    home: &Home,
    docket: &mut Docket,
) -> Result<(), Failure> {
    let Some(last) = over(machine, docket.entries())?.cloned() else { return Ok(()) };
    let Some(before) = machine.rules()? else { return Ok(()) };
    let posture = last.posture.as_ref().and_then(InPosture::behind);
    let policy =
        behind(machine, home, &last, posture.as_ref().and_then(InPosture::taken).as_ref())?;
    let admitted = as_in_posture(&before.program);
    let seen = Seen { rules: Some(&before), generation: None };
    put_in_force(machine, &policy, seen, &[]).map_err(
        |(Outcome::Refused(error) | Outcome::Unknown(error))| {
            Failure::in_kernel(error, &policy.sources, &policy.plan)
        },
    )?;
    // What cannot be ended has to be told by `cut`.
    let _ = cut::admitted_only_before(machine, &admitted, true);
    if pending(home).ok().flatten().is_some() {
        // What waits is no word on the posture: it goes on waiting without it.
        return Ok(());
    }
    if last.state == State::Intended {
        docket.became(last.id, State::Confirmed, &now())?;
    }
    let name = last.posture.as_ref().map(|it| it.name.clone()).unwrap_or_default();
    let effect = format!("{name} is over");
    let digest = last.policy.clone().unwrap_or_default();
    let mut made = entry(
        machine,
        New {
            kind: Kind::Leave,
            policy: Some((&policy, digest)),
            of: Some(last.id),
            effect,
            waits: false,
            despite: Vec::new(),
            posture,
        },
    );
    // Nobody did it.
    (made.login, made.from) = (None, None);
    let id = docket.add(made)?;
    docket.became(id, State::Confirmed, &now())?;
    let _ = noted(home, docket, id);
    Ok(())
}

/// What a program admitted up to the end of its posture.
fn as_in_posture(program: &RuleProgram) -> RuleProgram {
    let end = program.taken.as_ref().and_then(|it| it.until);
    let before = end.map(|it| Time::from_seconds(it.seconds() - 1));
    program.clone().at(before.unwrap_or_else(crate::now))
}
