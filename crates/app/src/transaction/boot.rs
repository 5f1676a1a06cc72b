//! What is loaded at boot.
//!
//! A boot must end closed, whatever is broken: so first only the baseline and the remote shell are
//! let through, which needs nothing but the kernel; then what was confirmed is looked for, and put in
//! the place of that.

use super::super::{Failure, Loaded, load_for_kernel};
use super::back::{Back, Gone, Went, close, take_out};
use super::clock::now;
use super::entries::{shell, worked_out};
use crate::Outcome;
use crate::store::{
    Docket, Entry, Guarded, Home, InPosture, Kind, Note, Situation, State, Written, all_kept,
    by_digest, origin, pending, saved_callers, set_pending, this_boot,
};
use crate::vocabulary as say;
use serde::Serialize;
use std::collections::BTreeSet;
use std::time::Duration;
use tipstaff_linux::ruleset::{self, Snapshot};
use tipstaff_linux::{Machine, Protocol};

/// How long somebody else may hold the docket.
const PATIENCE: Duration = Duration::from_secs(5);
/// So many kept policies are asked where the shell listens, if nothing else says it.
const ASKED: usize = 8;

/// What `enforce --boot` did.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Booted {
    /// `loaded`, `nothing-confirmed`, `released`; what was done since loading failed:
    /// `loaded-without-programs`, `loaded-earlier`, `closed` or `open`; or why nothing was to be done:
    /// `there` (our rules are), `waits` (a change does, to be confirmed).
    pub done: say::BootDid,
    /// The entry whose policy is in force.
    pub entry: Option<u64>,
    /// The host whose policy was loaded.
    pub host: Option<String>,
    /// Where the remote shell may be reached, if nothing else may.
    pub shell: Vec<String>,
    /// What went wrong, if anything did.
    pub trouble: Vec<String>,
}

impl Booted {
    /// Whether all is as confirmed, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        let well = matches!(
            self.done,
            say::BootDid::Loaded
                | say::BootDid::Released
                | say::BootDid::There
                | say::BootDid::Waits
        ) && self.trouble.is_empty();
        if well { Outcome::Fine } else { Outcome::Found }
    }

    pub(super) fn did(done: say::BootDid, trouble: Vec<String>) -> Self {
        Self { done, entry: None, host: None, shell: Vec::new(), trouble }
    }
}

/// Loads the last confirmed policy, from the docket, not the file. If that fails, an earlier
/// confirmed one; if none can be loaded, only the baseline and the remote shell stay open, unless
/// the policy chose otherwise.
///
/// # Errors
/// [`Failure`] if the kernel refuses even that.
pub fn boot(machine: &dyn Machine, home: &Home) -> Result<Booted, Failure> {
    let mut kernel = machine.channel(Protocol::Netfilter)?;
    let note = Note::read(home);
    let mut trouble = Vec::new();
    // Whoever calls this while rules are in force does not want them to be others for a moment.
    let decides =
        |it: &Snapshot| !it.dormant && it.program.chains.iter().any(|it| !it.rules.is_empty());
    let held = machine.rules().ok().flatten().is_some_and(|it| decides(&it));
    if let Ok(Some(Note { policy: Some(_), open_on_failure: false, host, shell, .. })) = &note
        && !held
        && let Err(failure) = close(&mut kernel, host, shell)
    {
        trouble.push(failure.line());
    }
    let (mut docket, found) = Docket::open_anyway(home, PATIENCE);
    let unreadable = !docket.is_readable();
    trouble.extend(found);
    if let Err(why) = &note {
        trouble.push(format!("the note for the boot cannot be read: {why}"));
    }
    let (noted, note_lost) = (note.as_ref().ok().cloned().flatten(), note.is_err());
    let waits = pending(home);
    let unconfirmed = settle_at_boot(home, &mut docket, noted.as_ref());
    let written = docket.written();
    let Some(last) = last(written, noted.as_ref()) else {
        let emptied = written.entries.is_empty() && !all_kept(home).is_empty();
        let lost = unreadable
            || note_lost
            || emptied
            || !written.lost.is_empty()
            || !matches!(waits, Ok(None)) && written.entries.is_empty();
        if !lost {
            if unconfirmed {
                // Called by hand, or the kernel would hold nothing: it may shut somebody out.
                take_out(&mut kernel)?;
            }
            return Ok(Booted::did(say::BootDid::NothingConfirmed, trouble));
        }
        if emptied {
            trouble.push(format!(
                "the docket in {} is gone, and its policies are there",
                home.folder.display()
            ));
        }
        let shell = known_shells(machine, home, written);
        let host = written.entries.iter().rev().find_map(|it| it.host.clone()).unwrap_or_default();
        close(&mut kernel, &host, &shell)?;
        return Ok(Booted { shell, ..Booted::did(say::BootDid::Closed, trouble) });
    };
    let released = written.entry(last).is_some_and(|it| it.kind == Kind::Release);
    if released && noted.is_none() && (!written.lost.is_empty() || note_lost) {
        // What came behind it may be lost.
        let shell = known_shells(machine, home, written);
        close(&mut kernel, "", &shell)?;
        return Ok(Booted { shell, ..Booted::did(say::BootDid::Closed, trouble) });
    }
    let back = Back::to(home, written, Some(last));
    drop(kernel);
    let Gone { went, host, left_out, trouble: met } = back.go(machine, None)?;
    trouble.extend(met);
    let known = written.entry(last).and_then(|it| it.host.clone());
    let host = host.or(known).or_else(|| noted.map(|it| it.host));
    let done = match went {
        Went::Out => say::BootDid::Released,
        Went::To(entry) if entry == last && left_out => say::BootDid::LoadedWithoutPrograms,
        Went::To(entry) if entry == last => say::BootDid::Loaded,
        Went::To(_) | Went::Before => say::BootDid::LoadedEarlier,
        Went::Closed => say::BootDid::Closed,
        Went::Open => say::BootDid::Open,
    };
    if went == Went::Closed || went == Went::Open {
        trouble
            .push(format!("the policy of entry {last} is not kept any more, or not what it was"));
    }
    let shell = if went == Went::Closed { back.shell.clone() } else { Vec::new() };
    trouble.extend((!held).then(|| remind(machine, home)).flatten());
    let entry = went.entry();
    let posture = machine.posture().ok().flatten().map(|it| InPosture::of(&it.1));
    trouble.extend(entry.and_then(|id| write_down(&mut docket, id, done, posture)));
    Ok(Booted { entry, host, shell, ..Booted::did(done, trouble) })
}

/// Has the kernel remember who came before; gives what went wrong.
fn remind(machine: &dyn Machine, home: &Home) -> Option<String> {
    let callers = match saved_callers(home) {
        Ok(callers) => callers?,
        Err(why) => return Some(format!("who came before the reboot cannot be read: {why}")),
    };
    let done = machine
        .channel(Protocol::Netfilter)
        .and_then(|mut kernel| ruleset::remind(&mut kernel, &callers));
    done.err().map(|error| format!("who came before the reboot is forgotten: {error}"))
}

/// What was confirmed last, by the docket or, where that has lost it, by the note.
pub(super) fn last(written: &Written, noted: Option<&Note>) -> Option<u64> {
    let confirmed = |it: &&Entry| it.state == State::Confirmed;
    let confirmed = written.entries.iter().filter(confirmed).map(origin).max();
    confirmed.max(noted.map(|it| it.entry))
}

/// What nobody confirmed before the machine went down counts as not confirmed; gives whether there was
/// something. If that cannot be written down, the next boot finds it the same.
fn settle_at_boot(home: &Home, docket: &mut Docket, noted: Option<&Note>) -> bool {
    let open: Vec<(u64, State)> = docket
        .entries()
        .iter()
        .filter(|it| matches!(it.state, State::Intended | State::Pending))
        .map(|it| (it.id, it.state))
        .collect();
    let some = !open.is_empty();
    for (id, state) in open {
        let became = match state {
            _ if noted.is_some_and(|it| it.entry == id) => State::Confirmed,
            State::Pending => State::Reverted,
            _ => State::Failed,
        };
        let _ = docket.became(id, became, &now());
    }
    let _ = set_pending(home, None);
    some
}

/// A kept policy of which nothing else is known.
fn as_kept(kept: &Guarded) -> Result<Loaded, Failure> {
    worked_out(kept, false, "a kept policy", None, &Situation::default())
}

/// Wherever the shell may listen, by all that can still be read; the usual port if nothing can.
fn known_shells(machine: &dyn Machine, home: &Home, written: &Written) -> Vec<String> {
    let mut found: BTreeSet<String> =
        written.entries.iter().flat_map(|it| it.shell.iter().cloned()).collect();
    // Whoever could fill the folder does not say which ports are open.
    let kept = if home.trusted().is_ok() { all_kept(home) } else { Vec::new() };
    for digest in kept.into_iter().take(ASKED) {
        let policy = by_digest(home, &digest).ok();
        let policy = policy.and_then(|it| as_kept(&it).ok());
        found.extend(policy.iter().flat_map(|it| shell(machine, it)));
    }
    if found.is_empty()
        && let Some((path, host)) = &home.policy
    {
        // It may say another port than what was in force; but all else is lost.
        let policy = load_for_kernel(machine, path, host.as_deref()).ok();
        found.extend(policy.iter().flat_map(|it| shell(machine, it)));
    }
    if found.is_empty() {
        found.insert("22/tcp".into());
    }
    found.into_iter().collect()
}

/// Notes that an entry was loaded; gives what went wrong with that.
fn write_down(
    docket: &mut Docket,
    id: u64,
    done: say::BootDid,
    posture: Option<InPosture>,
) -> Option<String> {
    let mut note = docket.written().entry(id)?.clone();
    (note.kind, note.of, note.state) = (Kind::Boot, Some(id), State::Intended);
    (note.time, note.effect, note.waits) = (now(), done.to_string(), false);
    (note.posture, note.boot) = (posture, Some(this_boot()));
    let added = docket.add(note).and_then(|id| docket.became(id, State::Confirmed, &now()));
    added.err().map(|failure| failure.line())
}
