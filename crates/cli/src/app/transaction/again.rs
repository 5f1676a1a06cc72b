//! What was confirmed, put back where somebody has taken it out of the kernel.

use super::super::Failure;
use super::boot::{Booted, boot, last};
use super::entries::recorded;
use super::{is_in_force, settle};
use crate::store::{Docket, Home, Note, origin, pending};
use tipstaff_linux::ruleset::{self, Snapshot};
use tipstaff_linux::{NetlinkSocket, Protocol};

/// Loads the last confirmed policy if our rules are gone: the table, or all that was in it, or it is
/// asleep. Does nothing while a change waits to be confirmed, and where somebody's change left rules
/// of ours: to take those away could shut out whoever made it.
///
/// # Errors
/// [`Failure`] if the kernel cannot be read, or refuses.
pub fn boot_if_gone(home: &Home) -> Result<Booted, Failure> {
    settle::look_after(home);
    let found = ruleset::read(&mut NetlinkSocket::open(Protocol::Netfilter)?)?;
    let how = match found {
        None => "our rules were gone from the kernel",
        Some(it) if it.dormant => "our table was asleep and decided nothing",
        Some(it) if is_hollow(home, &it) => "our rules were gone from our table",
        Some(it) => return Ok(Booted { host: Some(it.host), ..Booted::did("there", Vec::new()) }),
    };
    // Only now: whoever releases writes down that it waits before taking anything out.
    if matches!(pending(home), Ok(Some(_))) {
        return Ok(Booted::did("waits", Vec::new()));
    }
    let mut booted = boot(home)?;
    if booted.done != "nothing-confirmed" && booted.done != "released" {
        booted.trouble.insert(0, how.to_owned());
    }
    Ok(booted)
}

/// Whether our table has lost its rules. A policy may have none; that is no loss.
fn is_hollow(home: &Home, found: &Snapshot) -> bool {
    let empty = found.program.chains.iter().all(|it| it.rules.is_empty());
    empty && !confirmed_is_in_force(home, found)
}

fn confirmed_is_in_force(home: &Home, found: &Snapshot) -> bool {
    let Ok(written) = Docket::look(home) else { return false };
    let id = last(&written, Note::read(home).ok().flatten().as_ref());
    let entry = written.entries.iter().rev().find(|it| Some(origin(it)) == id);
    let policy = entry.and_then(|it| recorded(home, it).ok());
    policy.is_some_and(|it| is_in_force(&it, found))
}
