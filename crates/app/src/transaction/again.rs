//! What was confirmed, put back where somebody has taken it out of the kernel.

use super::super::{Failure, Loaded};
use super::boot::{Booted, boot, last};
use super::entries::recorded;
use super::holds::{is_in_force, was_in_force};
use super::settle;
use crate::store::{Docket, Entry, Home, Note, callers_saved_ago, origin, pending, save_callers};
use crate::vocabulary as say;
use std::time::Duration;
use tipstaff_linux::Machine;
use tipstaff_linux::ruleset::Snapshot;

/// How often it is written down who came.
const NOW_AND_THEN: Duration = Duration::from_secs(3_600);

/// Loads the last confirmed policy if our rules are gone: the table, or all that was in it, or it is
/// asleep. Does nothing while a change waits to be confirmed, and where somebody's change left rules
/// of ours: to take those away could shut out whoever made it.
///
/// # Errors
/// [`Failure`] if the kernel cannot be read, or refuses.
pub fn boot_if_gone(machine: &dyn Machine, home: &Home) -> Result<Booted, Failure> {
    settle::settle_what_waits(machine, home);
    // This is asked twice a minute for as long as the machine runs, and rules that follow nothing need only be there.
    let follows = confirmed(home).is_some_and(|it| it.follows);
    let glance = if follows { None } else { machine.glance()? };
    if let Some(host) = glance {
        save_now_and_then(machine, home);
        return Ok(there(host));
    }
    let found = machine.rules()?;
    let how = match found {
        None => "our rules were gone from the kernel",
        Some(it) if it.dormant => "our table was asleep and decided nothing",
        Some(it) if is_hollow(machine, home, &it) => "our rules were gone from our table",
        Some(it) if follows && is_confirmed(machine, home, &it, only_was) => {
            "interfaces have other names, or are on other networks, than when our rules were loaded"
        }
        Some(it) => {
            save_now_and_then(machine, home);
            return Ok(there(it.host));
        }
    };
    // Only now: whoever releases writes down that it waits before taking anything out.
    if matches!(pending(home), Ok(Some(_))) {
        return Ok(Booted::did(say::BootDid::Waits, Vec::new()));
    }
    let mut booted = boot(machine, home)?;
    if !matches!(booted.done, say::BootDid::NothingConfirmed | say::BootDid::Released) {
        booted.trouble.insert(0, how.to_owned());
    }
    Ok(booted)
}

fn there(host: String) -> Booted {
    Booted { host: Some(host), ..Booted::did(say::BootDid::There, Vec::new()) }
}

/// Writes down who came, now and then: what comes between is lost if the machine goes down at once. There is
/// another chance when this is run next.
fn save_now_and_then(machine: &dyn Machine, home: &Home) {
    if callers_saved_ago(home).is_none_or(|it| it >= NOW_AND_THEN)
        && let Ok(Some(callers)) = machine.callers()
    {
        let _ = save_callers(home, &callers);
    }
}

/// Whether our table has lost its rules. A policy may have none; that is no loss.
fn is_hollow(machine: &dyn Machine, home: &Home, found: &Snapshot) -> bool {
    let empty = found.program.chains.iter().all(|it| it.rules.is_empty());
    empty && !is_confirmed(machine, home, found, is_in_force)
}

/// Whether the kernel holds what was confirmed last, as `holds` sees it.
fn is_confirmed(
    machine: &dyn Machine,
    home: &Home,
    found: &Snapshot,
    holds: fn(&Loaded, &Snapshot) -> bool,
) -> bool {
    let policy = confirmed(home).and_then(|it| recorded(machine, home, &it).ok());
    policy.is_some_and(|it| holds(&it, found))
}

fn only_was(policy: &Loaded, found: &Snapshot) -> bool {
    !is_in_force(policy, found) && was_in_force(policy, found)
}

fn confirmed(home: &Home) -> Option<Entry> {
    let written = Docket::look(home).ok()?;
    let id = last(&written, Note::read(home).ok().flatten().as_ref());
    written.entries.into_iter().rev().find(|it| Some(origin(it)) == id)
}

/// Whether our rules are for interfaces that have other names by now, or were on other networks.
pub(crate) fn interfaces_moved(machine: &dyn Machine, home: &Home) -> bool {
    confirmed(home).is_some_and(|it| it.follows)
        && machine
            .rules()
            .is_ok_and(|found| found.is_some_and(|it| is_confirmed(machine, home, &it, only_was)))
}
