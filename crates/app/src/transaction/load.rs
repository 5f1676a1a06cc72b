//! The one step that changes the kernel, and what came of it.

use super::super::{Loaded, programs};
use super::holds::is_in_force;
use std::borrow::Cow;
use std::collections::hash_map::Entry::{Occupied, Vacant};
use std::collections::{HashMap, HashSet};
use std::time::Duration;
use tipstaff_core::plan::RuleId;
use tipstaff_core::space::Direction;
use tipstaff_linux::ruleset::{self, Marks, Snapshot, Tally};
use tipstaff_linux::{LinuxError, Machine, Protocol, Transport};

/// Others may change their rules at any time; so often it is tried again.
const TRIES: usize = 8;
/// So often the kernel is asked what it holds, where its answer was lost.
const LOOKS: usize = 5;
const BETWEEN: Duration = Duration::from_millis(100);

/// Why it did not come to the new rules being in force.
#[derive(Debug)]
pub(super) enum Outcome {
    /// The kernel holds what it held before.
    Refused(LinuxError),
    /// Nobody knows what it holds, or it is neither the old nor the new.
    Unknown(LinuxError),
}

/// The kernel's rules as they were when it was worked out what changes.
#[derive(Clone, Copy)]
pub(crate) struct Seen<'a> {
    /// Ours; `None` if there were none.
    pub rules: Option<&'a Snapshot>,
    /// What the kernel's rules had been no later than that, as a [`ruleset::generation`]; `None` if nobody asked.
    pub generation: Option<u32>,
}

/// The policy's rules are in the kernel.
#[derive(Default)]
pub(crate) struct Sent {
    /// What is not recognised of sockets.
    pub not_recognised: Vec<String>,
    /// Whether only what differs was changed; `None` if nothing was sent.
    pub by_parts: Option<bool>,
}

/// Puts the policy's rules into the kernel, provided that ours are still what they were when it
/// was worked out what changes. Others may change theirs at any time. Decisions go on counting from
/// where they are, but for those that `reset` names.
///
/// # Errors
/// [`Outcome`].
pub(crate) fn put_in_force(
    machine: &dyn Machine,
    policy: &Loaded,
    seen: Seen<'_>,
    reset: &[String],
) -> Result<Sent, Outcome> {
    let before = seen.rules;
    let mut policy = Cow::Borrowed(policy);
    if policy.plan.logging.all_until.is_some() || before.is_some_and(is_raised) {
        policy.to_mut().goes_on_logging(before);
    }
    let policy = &*policy;
    let marks = before.map(|it| it.marks.clone()).unwrap_or_default();
    let mut kernel = machine.channel(Protocol::Netfilter).map_err(Outcome::Refused)?;
    let kernel = &mut kernel;
    let mut known = true;
    let done = programs::recognised(policy, &marks, |marks| {
        for _ in 0..TRIES {
            let generation = ruleset::generation(kernel)?;
            // Of the same generation they are as they were seen.
            let as_seen = before.filter(|_| Some(generation) == seen.generation);
            let to = (policy, marks, generation);
            let mut done = as_seen.and_then(|held| by_parts(kernel, held, to, reset));
            let mut now = None;
            if done.is_none() {
                now = ruleset::read(kernel)?;
                if !same(now.as_ref(), before) {
                    return Err(LinuxError::Changed);
                }
                let tried = as_seen.is_some();
                done = now
                    .as_ref()
                    .filter(|_| !tried)
                    .and_then(|held| by_parts(kernel, held, to, reset));
            }
            if let Some(done) = done {
                match settled(done, (machine, policy, before), &mut known) {
                    Some(done) => return done.map(|()| true),
                    None => continue,
                }
            }
            let meant = (policy.plan.host.as_str(), policy.program(), marks);
            // What has been counted up to now, of decisions that take what they took.
            let counted = now.as_ref().filter(|it| it.host == policy.plan.host);
            let counted = counted.map(|it| it.tallies.clone()).unwrap_or_default();
            let carried = carried(policy, counted, reset);
            let done = ruleset::enforce_at(kernel, now.as_ref(), meant, generation, &carried);
            if let Some(done) = settled(done.map(drop), (machine, policy, before), &mut known) {
                return done.map(|()| false);
            }
        }
        Err(LinuxError::Changed)
    });
    match done {
        Ok((by_parts, not_recognised)) => Ok(Sent { not_recognised, by_parts: Some(by_parts) }),
        Err(error) if known => Err(Outcome::Refused(error)),
        Err(error) => Err(Outcome::Unknown(error)),
    }
}

/// Changes only what differs; `None` where that is not possible.
fn by_parts(
    kernel: &mut dyn Transport,
    held: &Snapshot,
    (policy, marks, generation): (&Loaded, &Marks, u32),
    reset: &[String],
) -> Option<Result<(), LinuxError>> {
    // What a posture counts goes over to what holds without it.
    if policy.later.is_some() || held.program.taken.is_some() {
        return None;
    }
    let meant = (policy.plan.host.as_str(), policy.program(), marks);
    match ruleset::change(kernel, held, meant, generation, reset) {
        Ok(false) => None,
        done => Some(done.map(drop)),
    }
}

/// What came of it, once that is settled; `None`: it is to be tried again. What nobody knows is looked at.
fn settled(
    done: Result<(), LinuxError>,
    (machine, policy, before): (&dyn Machine, &Loaded, Option<&Snapshot>),
    known: &mut bool,
) -> Option<Result<(), LinuxError>> {
    match done {
        Err(LinuxError::Changed) => None,
        Err(error @ (LinuxError::Unknown { .. } | LinuxError::ReadBack(_))) => {
            Some(match look(machine, policy, before) {
                Some(true) => Ok(()),
                Some(false) => Err(LinuxError::Refused {
                    doing: "load rules".into(),
                    reason: format!("{error}; it holds what it held before").into(),
                }),
                None => {
                    *known = false;
                    Err(error)
                }
            })
        }
        done => Some(done),
    }
}

/// What decisions go on counting from. What holds once a posture is over, and what holds without it, is one: it goes
/// on counting on either side.
fn carried(policy: &Loaded, counted: Vec<Tally>, reset: &[String]) -> Vec<Tally> {
    let reset: HashSet<&str> = reset.iter().map(String::as_str).collect();
    let of_now: HashSet<&RuleId> = policy.plan.decisions().map(|it| &it.1.id).collect();
    let mut list: Vec<Tally> = Vec::new();
    let mut places: HashMap<(Direction, RuleId), usize> = HashMap::new();
    for mut tally in counted {
        tally.id.later = false;
        if reset.contains(&*tally.id.to_string()) {
            continue;
        }
        tally.id.later = policy.later.is_some() && !of_now.contains(&tally.id);
        match places.entry((tally.direction, tally.id.clone())) {
            Occupied(known) => list[*known.get()].add(&tally),
            Vacant(place) => {
                place.insert(list.len());
                list.push(tally);
            }
        }
    }
    list
}

/// Whether all decisions are reported, for a time.
fn is_raised(before: &Snapshot) -> bool {
    before.program.logging.is_some_and(|it| it.all_until.is_some())
}

fn same(now: Option<&Snapshot>, before: Option<&Snapshot>) -> bool {
    match (now, before) {
        (Some(now), Some(before)) => now.dormant == before.dormant && now.program == before.program,
        (now, before) => now.is_none() && before.is_none(),
    }
}

/// Whether the kernel holds the new rules (`true`) or the old ones (`false`); `None` if that cannot be
/// told.
fn look(machine: &dyn Machine, policy: &Loaded, before: Option<&Snapshot>) -> Option<bool> {
    for _ in 0..LOOKS {
        // Another socket: the one that lost an answer may hold more of the kind.
        if let Ok(held) = machine.rules() {
            return match held {
                Some(held) if is_in_force(policy, &held) => Some(true),
                held if same(held.as_ref(), before) => Some(false),
                _ => None,
            };
        }
        std::thread::sleep(BETWEEN);
    }
    None
}
