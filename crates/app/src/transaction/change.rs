//! A policy into the kernel, recorded.

use super::back::Back;
use super::clock::now;
use super::entries::{self, New, entry};
use super::holds::{Last, confirmed_before, is_in_force, put_there};
use super::load::{Outcome, Seen, Sent, put_in_force};
use super::noted::noted;
use super::objections::objections;
use super::open::opened;
use super::request::{Options, Report};
use super::settle::last_confirmed;
use super::situation::{self, is_in_posture_of};
use super::waiting::{Waits, watched};
use crate::effect::Effects;
use crate::first::stays_open;
use crate::store::{Docket, Kind, State, set_pending};
use crate::vocabulary as say;
use crate::{Failure, Loaded, beside, compare, cut, enforce, known, live, logging, programs, shut};
use std::borrow::Cow;
use tipstaff_core::plan::{RuleId, TURNED_AWAY};
use tipstaff_linux::ruleset::Snapshot;
use tipstaff_linux::{LinuxError, Machine};

pub(crate) fn carry_out(
    policy: &Loaded,
    options: &Options<'_>,
    kind: Kind,
    of: Option<u64>,
) -> Result<Report, Failure> {
    let policy = &*as_asked(policy, options);
    enforce::can_tell_programs(options.machine, policy)?;
    // Who may not even look at the kernel's rules learns that first: it is the reason.
    options.machine.generation()?;
    let despite = objections(policy, options)?;
    // Whoever else changes what is enforced waits until this is done.
    let mut docket = if options.dry { None } else { Some(opened(options.machine, options.home)?) };
    let generation = Some(options.machine.generation()?);
    let (before, report) = rules_and_foreseen(policy, options)?;
    let seen = Seen { rules: before.as_ref(), generation };
    let reset = counting_anew(&report, kind);
    let Some(docket) = docket.as_mut() else {
        return Ok(Report { done: say::Changed::WouldEnforce, ..report });
    };
    follows_what_is(docket, kind, of)?;
    let digest = docket.keep(&policy.plan.host, &policy.sources)?;
    let same = before.as_ref().is_some_and(|it| {
        is_in_force(policy, it) && programs::are_known(options.machine, policy, &it.marks)
    });
    let last = docket.confirmed();
    let known =
        last.is_some_and(|it| it.policy.as_ref() == Some(&digest) && is_in_posture_of(policy, it));
    let posture = situation::of_change(policy, options.posture, last);
    if same && known {
        return unchanged(policy, options, seen, report);
    }
    let told = options.tell.filter(|_| !report.effects.is_nothing());
    told.inspect(|tell| tell(&report.effects));
    let back_to = last_confirmed(options.home, docket);
    let effect = effect(&report.effects, before.is_some());
    let keep = options.keep || same;
    let policy_and_digest = Some((policy, digest));
    let new = New { kind, policy: policy_and_digest, of, effect, waits: !keep, despite, posture };
    let entry = entry(options.machine, new);
    let rules = entry.rules.clone();
    let id = docket.add(entry)?;
    // Before anything changes: whatever happens to this process then, somebody is there.
    let (held, shell) = (before.is_some(), entries::shell(options.machine, policy));
    let waits = Waits { id, back_to, held, shell };
    let back = match keep {
        true => Back::of(options.home, docket.written(), &waits.pending(0, 0, None)),
        false => watched(options, docket, &waits)?,
    };
    let sent = match same && options.log_for.is_none() {
        true => Ok(Sent::default()),
        false => put_in_force(options.machine, policy, seen, &reset),
    };
    let mut report = report;
    let sent = match sent {
        Ok(sent) => sent,
        Err(outcome) => {
            let at_once = keep.then_some((&back, before.as_ref()));
            return Err(not_in_force(policy, options, docket, id, at_once, outcome));
        }
    };
    if let Some(enforced) = &mut report.enforced {
        enforced.not_recognised = sent.not_recognised;
        enforced.by_parts = sent.by_parts;
    }
    docket.became(id, if keep { State::Confirmed } else { State::Pending }, &now())?;
    known::note(options.home, policy, rules);
    report.remarks.extend(keep.then(|| noted(options.home, docket, id)).flatten());
    report.remarks.extend(logging::remarks(options.machine, policy));
    shut_out(policy, options, &mut report);
    Ok(Report {
        done: if same { say::Changed::Unchanged } else { say::Changed::Enforced },
        entry: Some(id),
        confirm_within: (!keep).then_some(options.within.as_secs()),
        living_on: living_on(options, policy),
        told: told.is_some(),
        ..report
    })
}

/// The rules that begin to count anew. A rule is the same rule when a place of it holds others.
fn counting_anew(report: &Report, kind: Kind) -> Vec<String> {
    let changed = report.enforced.as_ref().filter(|_| kind != Kind::Refresh);
    changed.map(|it| it.changed.clone()).unwrap_or_default()
}

/// What the kernel holds, and what the change would do. Of a long policy what was confirmed last says much of that.
fn rules_and_foreseen(
    policy: &Loaded,
    options: &Options<'_>,
) -> Result<(Option<Snapshot>, Report), LinuxError> {
    let Options { machine, home, all, dry, .. } = *options;
    let last = || confirmed_before(machine, home, policy);
    let foreseen = |before: Option<&Snapshot>, last: Option<Last>| {
        foreseen(policy, (machine, all, dry), before, last.flatten())
    };
    beside::rules_and(machine, policy, last, foreseen)
}

/// What follows by itself from an entry does not take the place of what somebody has put in force since.
fn follows_what_is(docket: &Docket, kind: Kind, of: Option<u64>) -> Result<(), Failure> {
    let (Kind::Take, Some(of)) = (kind, of) else { return Ok(()) };
    match docket.confirmed() {
        Some(last) if last.id == of => Ok(()),
        _ => Err(Failure::stopped(
            "something else was put in force meanwhile",
            vec!["nothing was changed".into()],
        )),
    }
}

/// How many connections live on. Only told: what cannot be looked at does not make the enforcement fail.
fn living_on(options: &Options<'_>, policy: &Loaded) -> Option<usize> {
    cut::count(options.machine, policy.program()).ok()
}

/// Nothing of the rules is touched: what has been counted stays. What is to be reported for a time is nothing that
/// would have to go back.
fn unchanged(
    policy: &Loaded,
    options: &Options<'_>,
    seen: Seen<'_>,
    mut report: Report,
) -> Result<Report, Failure> {
    if options.log_for.is_some() {
        let sent = put_in_force(options.machine, policy, seen, &[]);
        sent.map_err(|(Outcome::Refused(error) | Outcome::Unknown(error))| {
            Failure::in_kernel(error, &policy.sources, &policy.plan)
        })?;
        report.remarks.extend(logging::remarks(options.machine, policy));
    }
    let living_on = living_on(options, policy);
    Ok(Report { done: say::Changed::Unchanged, living_on, ..report })
}

/// The policy, without its programs if they are to be left out.
fn as_asked<'p>(policy: &'p Loaded, options: &Options<'_>) -> Cow<'p, Loaded> {
    let mut policy = Cow::Borrowed(policy);
    if options.without_programs && !policy.without_programs {
        policy.to_mut().leave_out_programs();
    }
    if let Some(time) = options.log_for {
        policy.to_mut().log_all_for(time);
    }
    policy
}

/// Ends what those who are turned away have open, if anybody is.
fn shut_out(policy: &Loaded, options: &Options<'_>, report: &mut Report) {
    if policy.plan.find(&RuleId::baseline(TURNED_AWAY)).is_none() {
        return;
    }
    match cut::report(options.machine, cut::End::OfTurnedAway) {
        Ok(ended) => report.living = Some(ended),
        Err(failure) => report.remarks.push(format!(
            "what those who are turned away had open could not be ended, though nothing of it passes any \
             more: {}",
            failure.line()
        )),
    }
}

/// What a change would do.
fn foreseen(
    policy: &Loaded,
    (machine, all, dry): (&dyn Machine, bool, bool),
    before: Option<&Snapshot>,
    last: Last,
) -> Report {
    let (effects, changed) = match before {
        Some(snapshot) => {
            let put_there = || put_there(last, snapshot);
            let found = compare::from_kernel(policy, &snapshot.program, put_there, all);
            (found.effects, found.decisions)
        }
        None => (Effects { changes_known: true, ..Effects::default() }, None),
    };
    let report = enforce::report(machine, policy, before, changed.as_ref());
    let mut remarks = live::odd_interfaces(policy);
    if policy.clock_is_wrong {
        remarks.push(
            "the clock shows a time before the policy was changed: what it allows for a time only counts \
             as over; set the clock and enforce again"
                .into(),
        );
    }
    remarks.extend(shut::remark(machine));
    if before.is_some_and(|it| it.dormant) && !dry {
        remarks.push("our table was asleep and decided nothing; it is awake again".into());
    }
    let stays_open = if before.is_none() { stays_open(policy, all) } else { Vec::new() };
    Report {
        posture: policy.plan.taken.as_ref().map(|it| it.name.clone()),
        enforced: Some(report),
        effects,
        stays_open,
        remarks,
        ..Report::did(say::Changed::Enforced)
    }
}

/// Writes down that it did not come to the new rules being in force, and says why.
fn not_in_force(
    policy: &Loaded,
    options: &Options<'_>,
    docket: &mut Docket,
    id: u64,
    at_once: Option<(&Back, Option<&Snapshot>)>,
    outcome: Outcome,
) -> Failure {
    match outcome {
        Outcome::Unknown(error) => unknown(options, docket, id, at_once, &error),
        Outcome::Refused(error) => {
            let noted = docket.became(id, State::Failed, &now());
            let noted = noted.and_then(|()| set_pending(options.home, None));
            match noted {
                Ok(()) => Failure::in_kernel(error, &policy.sources, &policy.plan),
                Err(failure) => failure,
            }
        }
    }
}

/// It is not known whether the kernel took the rules: what waits goes back by itself, what was to stay
/// goes back at once.
fn unknown(
    options: &Options<'_>,
    docket: &mut Docket,
    id: u64,
    at_once: Option<(&Back, Option<&Snapshot>)>,
    error: &LinuxError,
) -> Failure {
    let message = format!("it is not known which rules are in force: {error}");
    let look = "look with `tipstaff status`".to_owned();
    let Some((back, before)) = at_once else {
        let seconds = options.within.as_secs();
        let note = docket.became(id, State::Pending, &now()).err().map(|it| it.line());
        let mut help = vec![
            look,
            format!(
                "entry {id} waits: it goes back by itself in {seconds} seconds unless confirmed"
            ),
        ];
        help.extend(note);
        return Failure::System { message, help };
    };
    let help = match back.go(options.machine, before) {
        Ok(gone) => {
            let _ = docket.became(id, State::Reverted, &now());
            let mut help = vec!["what was in force before is again".to_owned()];
            help.extend(gone.trouble);
            help
        }
        Err(failure) => vec![look, format!("going back did not work either: {}", failure.line())],
    };
    Failure::System { message, help }
}

/// What changes, in a few words.
fn effect(effects: &Effects, was_in_force: bool) -> String {
    if !was_in_force {
        return "nothing was in force before".into();
    }
    if !effects.changes_known {
        return "too much to be worked out".into();
    }
    let count = |kind| effects.kinds.iter().filter(|it| **it == kind).count();
    let words: Vec<String> = say::Effect::ALL
        .iter()
        .filter(|kind| count(**kind) > 0)
        .map(|kind| format!("{kind} {}", count(*kind)))
        .collect();
    if words.is_empty() { "nothing changes for packets".into() } else { words.join(", ") }
}
