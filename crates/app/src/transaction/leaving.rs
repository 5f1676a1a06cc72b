//! Postures of the policy: taken, left, and over.

use super::change::carry_out;
use super::clock::deadline;
use super::following::posture_here;
use super::over::behind;
use super::request::{Options, Report};
use super::seeing_out;
use crate::store::{Docket, Entry, InPosture, Kind, Note, Watcher};
use crate::{Failure, Loaded, cut};
use std::time::Duration;
use tipstaff_core::policy::{Taken, Time};

/// How a posture is taken.
#[derive(Clone, Copy, Debug)]
pub struct Taking<'t> {
    /// Its name.
    pub name: &'t str,
    /// For how long; `None`: until it is left, or the command ends.
    pub time: Option<Duration>,
    /// The process with which it ends, if it does.
    pub ends_with: Option<Watcher>,
    /// Why.
    pub why: &'t str,
    /// The posture without an end that is in force, and is to be again afterwards.
    pub then: Option<&'t Taken>,
}

/// What leaving a posture did.
#[derive(Debug)]
pub struct Left {
    /// What changed; `None` if no posture was in force.
    pub change: Option<Report>,
    /// The posture that was left.
    pub taken: Option<Taken>,
    /// What only the posture admitted.
    pub ended: Option<cut::Report>,
    /// What else is to be known, as whole sentences.
    pub remarks: Vec<String>,
}

/// Takes a posture. One with an end needs no confirmation, since it goes by itself.
///
/// # Errors
/// [`Failure`] as for `enforce`.
pub fn take(
    policy: &Loaded,
    taking: &Taking<'_>,
    options: &Options<'_>,
) -> Result<Report, Failure> {
    let mut policy = policy.clone();
    let begun = policy.now;
    // Whole seconds, no fewer than were asked for.
    let seconds = |it: Duration| i64::try_from(it.as_secs()).unwrap_or(i64::MAX).saturating_add(1);
    let until =
        taking.time.map(|it| Time::from_seconds(begun.seconds().saturating_add(seconds(it))));
    let why = taking.why.split_whitespace().collect::<Vec<_>>().join(" ");
    let ends = until.is_some() || taking.ends_with.is_some();
    // The kernel's clock does not know where the machine is by then: what is strict everywhere holds until that is known.
    let strict = policy.section().filter(|it| it.goes_by_place()).and_then(|it| it.at_boot.clone());
    let strict = strict.map(|name| Taken {
        name,
        since: begun,
        until: None,
        why: String::new(),
        then: None,
    });
    let then = strict.as_ref().or(taking.then).filter(|_| ends).map(|it| Box::new(it.clone()));
    let taken = Taken { name: taking.name.to_owned(), since: begun, until, why, then };
    policy.take(&taken)?;
    policy.place(options.machine)?;
    let posture = InPosture {
        deadline: taking.time.map(deadline),
        ends_with: taking.ends_with,
        by_hand: true,
        ..InPosture::of(&taken)
    };
    let keep = options.keep || ends;
    let options = Options { keep, posture: Some(&posture), ..*options };
    // Somebody is there before anything changes.
    let ready = match ends && !options.dry {
        true => Some(seeing_out::start(options.home, &posture)?),
        false => None,
    };
    let report = carry_out(&policy, &options, Kind::Take, None)?;
    if let Some(ready) = ready {
        ready.let_go();
    }
    Ok(report)
}

/// Leaves the posture in force: the policy that was confirmed last holds without it, as it was, in the posture that was
/// in force before if that has no end. What only the posture
/// admitted is ended, unless it is to live.
///
/// # Errors
/// [`Failure`] as for `enforce`.
pub fn leave(options: &Options<'_>, let_live: bool) -> Result<Left, Failure> {
    let held = options.machine.rules()?;
    let time = crate::now();
    let taken = held.as_ref().and_then(|it| it.program.taken.as_ref()?.at(time).cloned());
    let (Some(held), Some(taken)) = (held, taken) else {
        return Ok(Left { change: None, taken: None, ended: None, remarks: Vec::new() });
    };
    let written = Docket::look(options.home)?;
    let noted = Note::read(options.home).ok().flatten().map(|it| it.entry);
    let of_host = |it: &&Entry| it.host.as_ref() == Some(&held.host);
    let last = written.confirmed().filter(of_host).or(noted.and_then(|it| written.entry(it)));
    let Some(last) = last else {
        return Err(Failure::System {
            message: "the docket does not know what was in force, so that cannot be brought back"
                .into(),
            help: vec![
                "`tipstaff enforce --leave-posture` enforces the policy's file without it".into(),
            ],
        });
    };
    let (policy, then) = what_follows(last, &taken, options)?;
    let posture = then.as_ref().map(InPosture::of);
    let options = &Options { posture: posture.as_ref(), ..*options };
    let change = carry_out(&policy, options, Kind::Leave, Some(last.id))?;
    let mut remarks = Vec::new();
    let mut ended = None;
    if !options.dry {
        match cut::admitted_only_before(options.machine, &held.program.at(time), !let_live) {
            Ok(report) => ended = Some(report),
            Err(failure) => remarks.push(not_ended(&failure)),
        }
    }
    let taken = Taken { then: then.map(Box::new), ..taken };
    Ok(Left { change: Some(change), taken: Some(taken), ended, remarks })
}

/// The policy in what holds once a posture is left: in the one behind it; or, where postures hold by themselves, in the one
/// that belongs to where this machine is.
fn what_follows(
    last: &Entry,
    taken: &Taken,
    options: &Options<'_>,
) -> Result<(Loaded, Option<Taken>), Failure> {
    let (machine, home) = (options.machine, options.home);
    if last.by_place {
        if last.posture.as_ref().is_some_and(|it| !it.by_hand) {
            return Err(Failure::stopped(
                format!(
                    "the posture `{}` is in force by itself, by where this machine is",
                    taken.name
                ),
                vec![
                    "`tipstaff posture take NAME` takes another, until that is left".into(),
                    "nothing was changed".into(),
                ],
            ));
        }
        let mut policy = behind(machine, home, last, None)?;
        if let Some(here) = posture_here(machine, &policy) {
            policy.take(&here)?;
            policy.place(machine)?;
            return Ok((policy, Some(here)));
        }
    }
    let then = taken.then.as_deref();
    Ok((behind(machine, home, last, then)?, then.cloned()))
}

fn not_ended(failure: &Failure) -> String {
    format!("what only the posture admitted could not be ended: {}", failure.line())
}
