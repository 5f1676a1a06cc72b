//! Postures: what holds in certain situations. The policy has some; one, `shut`, is built in.

mod words;

pub use crate::shut::Wish;
pub use words::{Known, Report};

use crate::as_in_force::as_in_force;
use crate::attend::is_attended;
use crate::store::{Docket, Entry, Home, InPosture, State, Watcher};
pub use crate::transaction::Taking;
use crate::transaction::{self, Left, Options};
use crate::vocabulary as say;
use crate::{Failure, Loaded, load_for_posture, shut};
use std::path::Path;
use tipstaff_core::policy::{SHUT, Taken};
use tipstaff_linux::Machine;

/// Shuts the door: nothing comes in or goes out but by loopback, and what was open is ended.
///
/// # Errors
/// [`Failure`] if it would lock out whoever asks, or the kernel refuses.
pub fn shut(machine: &dyn Machine, wish: &Wish) -> Result<Report, Failure> {
    Ok(Report { done: say::Moved::Shut, ..closed(Some(shut::shut(machine, wish)?)) })
}

/// Which posture is in force, and which there are.
///
/// # Errors
/// [`Failure`] if the kernel does not let us look.
pub fn report(
    machine: &dyn Machine,
    home: &Home,
    policy: Result<&Loaded, &Failure>,
) -> Result<Report, Failure> {
    let mut report = closed(shut::look(machine)?);
    let taken = machine.posture()?.and_then(|it| it.1.at(crate::now()).cloned());
    let policy_error = policy.err().map(Failure::line);
    report.knows(home, policy.ok(), taken);
    report
        .remarks
        .extend(policy_error.map(|why| format!("the policy's postures are not known: {why}")));
    Ok(report)
}

/// Likewise, as far as it may be looked at.
pub(crate) fn of_now(machine: &dyn Machine, home: &Home, policy: &Loaded) -> Option<Report> {
    let taken = machine.posture().ok()?.and_then(|it| it.1.at(policy.now).cloned());
    let mut report = closed(shut::look(machine).ok()?);
    report.knows(home, Some(policy), taken);
    Some(report)
}

/// Takes a posture of the policy.
///
/// # Errors
/// [`Failure`] as for `enforce`.
pub fn take(
    (path, host): (&Path, Option<&str>),
    taking: &Taking<'_>,
    options: &Options<'_>,
) -> Result<Report, Failure> {
    let policy = &load_for_posture(path, host)?;
    let held = options.machine.rules()?.filter(|it| !it.dormant && it.host == policy.plan.host);
    let Some(held) = held else {
        // When it is over, rules would hold that nobody has looked at.
        return Err(Failure::stopped(
            "no rules are in force on which a posture could be taken",
            vec!["`tipstaff enforce` puts the policy in force; then take it".into()],
        ));
    };
    let mut now = policy.clone();
    if let Some(taken) = &held.program.taken {
        // One that the policy has no more is left by this.
        let _ = now.take(taken);
    }
    now.place(options.machine)?;
    let options = &as_in_force(&now, &held, options, "take it")?;
    let in_force = held.program.taken.as_ref().and_then(|it| it.at(policy.now));
    in_force.map_or(Ok(()), |it| is_nobodys(options.home, it))?;
    let then = in_force.and_then(|it| lasting(options.home, it));
    let taking = &Taking { then, ..*taking };
    let change = transaction::take(policy, taking, options)?;
    let done = if options.dry { say::Moved::WouldTake } else { say::Moved::Taken };
    let mut report = Report::did(done);
    let taken = options.machine.posture().ok().flatten().map(|it| it.1).filter(|_| !options.dry);
    report.knows(options.home, Some(policy), taken);
    if options.dry {
        report.posture = Some(taking.name.to_owned());
    }
    report.change = Some(change);
    Ok(report)
}

/// Leaves what was taken last: a shut door is opened; else the posture of the policy that is in force is left.
///
/// # Errors
/// [`Failure`] if the kernel or the docket refuses.
pub fn leave(options: &Options<'_>, let_live: bool) -> Result<Report, Failure> {
    if shut::look(options.machine)?.is_some() {
        if options.dry {
            return Ok(Report::did(say::Moved::WouldLeave));
        }
        let mut report = opened(options.machine)?;
        if let Ok(Some((_, taken))) = options.machine.posture()
            && let Some(taken) = taken.at(crate::now())
        {
            report.posture = Some(taken.name.clone());
            report.remarks.push(format!(
                "once more `tipstaff posture leave` leaves the posture `{}`",
                taken.name
            ));
        }
        return Ok(report);
    }
    leave_policys(options, let_live)
}

/// Leaves the posture of the policy that is in force.
fn leave_policys(options: &Options<'_>, let_live: bool) -> Result<Report, Failure> {
    let Left { change, taken, ended, remarks } = transaction::leave(options, let_live)?;
    let done = match (&change, options.dry) {
        (None, _) => say::Moved::NothingToLeave,
        (_, true) => say::Moved::WouldLeave,
        _ => say::Moved::Left,
    };
    let mut report = Report { change, living: ended, remarks, ..Report::did(done) };
    if let Some(taken) = taken {
        report.posture = taken.then.map(|it| it.name);
        report.behind = Some(taken.name);
    }
    Ok(report)
}

/// Opens a shut door.
fn opened(machine: &dyn Machine) -> Result<Report, Failure> {
    let opened = shut::open(machine)?;
    let done = if opened { say::Moved::Opened } else { say::Moved::NothingToLeave };
    let mut report = Report::did(done);
    match machine.rules() {
        Ok(held) if held.as_ref().is_none_or(|it| it.dormant) => {
            report.remarks.push("no rules of ours are in force: everything passes".into());
        }
        Ok(_) => {}
        Err(error) => {
            report.remarks.push(format!("which rules are in force is not known: {error}"));
        }
    }
    Ok(report)
}

/// A shut door as a report.
fn closed(door: Option<shut::Closed>) -> Report {
    let report = Report::did(say::Moved::Looked);
    let Some(door) = door else { return report };
    Report {
        posture: Some(SHUT.to_owned()),
        since: Some(door.since),
        until: door.until,
        why: door.why,
        session: door.session,
        intact: Some(door.intact),
        turned_away: Some(door.turned_away),
        ended: door.ended,
        remarks: door.remarks,
        ..report
    }
}

impl Report {
    /// Adds the posture of the policy, and all that there are.
    fn knows(&mut self, home: &Home, policy: Option<&Loaded>, taken: Option<Taken>) {
        if let Some(section) = policy.and_then(Loaded::section) {
            let in_force = |name: &str| taken.as_ref().is_some_and(|it| it.name == name);
            let known = section.postures.iter().map(|it| Known {
                name: it.name.clone(),
                rules: it.rules.len(),
                instead: it.instead,
                in_force: in_force(&it.name),
                by_place: it.when.is_some(),
                why: it.why.clone(),
            });
            self.postures = Some(known.collect());
            self.at_boot.clone_from(&section.at_boot);
            if section.goes_by_place() {
                let by_hand = |it: &Taken| written(home, it).is_some_and(|it| it.by_hand);
                self.by_itself = Some(taken.as_ref().is_some_and(|it| !by_hand(it)));
                self.attended = is_attended(home);
            }
        }
        let Some(taken) = taken else { return };
        if self.is_shut() {
            self.behind = Some(taken.name);
            return;
        }
        self.ends_with =
            written(home, &taken).and_then(|it| it.ends_with).map(|it: Watcher| it.pid);
        self.since = Some(taken.since.to_string());
        self.until = taken.until.map(|it| it.to_string());
        self.then = taken.then.map(|it| it.name);
        self.why = Some(taken.why).filter(|it| !it.is_empty());
        self.posture = Some(taken.name);
    }
}

/// Refuses to take the place of a posture that somebody's command relies on.
fn is_nobodys(home: &Home, taken: &Taken) -> Result<(), Failure> {
    match written(home, taken).and_then(|it| it.ends_with).filter(|it| it.lives()) {
        None => Ok(()),
        Some(Watcher { pid, .. }) => Err(Failure::stopped(
            format!("the posture `{}` is in force while process {pid} runs", taken.name),
            vec!["it ends with that; `tipstaff posture leave` leaves it now".into()],
        )),
    }
}

/// Leaves what was taken, as its report says, unless somebody has left it, or has taken another since. A shut door
/// stays shut.
///
/// # Errors
/// As for [`leave`].
pub fn leave_taken(options: &Options<'_>, taken: &Report) -> Result<Report, Failure> {
    let held = options.machine.posture()?.map(|it| it.1);
    let is_it = |it: &Taken| {
        taken.posture.as_ref() == Some(&it.name)
            && taken.since.as_ref().is_none_or(|since| *since == it.since.to_string())
    };
    if held.as_ref().is_some_and(is_it) {
        return leave_policys(options, false);
    }
    Ok(Report {
        posture: held.map(|it| it.name),
        behind: taken.posture.clone(),
        ..Report::did(say::Moved::NothingToLeave)
    })
}

/// The posture without an end that is in force, or that is behind the one in force.
fn lasting<'t>(home: &Home, taken: &'t Taken) -> Option<&'t Taken> {
    let lasts = taken.until.is_none() && written(home, taken).is_none_or(|it| it.lasts());
    if lasts { Some(taken) } else { taken.then.as_deref() }
}

/// The posture as it was written down.
fn written(home: &Home, taken: &Taken) -> Option<InPosture> {
    let written = Docket::look(home).ok()?;
    let in_force = |it: &&Entry| matches!(it.state, State::Confirmed | State::Pending);
    let last = written.entries.iter().rev().find(in_force)?;
    last.posture.clone().filter(|it| it.taken().is_some_and(|it| it.is(taken)))
}
