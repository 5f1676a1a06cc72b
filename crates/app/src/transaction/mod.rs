//! Enforcing as a recorded transaction: what stops it, what it changes, a way back.

mod again;
mod back;
mod boot;
mod change;
mod clock;
mod confirm;
mod entries;
mod following;
mod guard;
mod holds;
mod leaving;
mod load;
mod look_after;
mod memory;
mod noted;
mod objections;
mod open;
mod over;
mod request;
mod seeing_out;
mod settle;
mod situation;
mod waiting;
mod watch;

pub use again::boot_if_gone;
pub use boot::{Booted, boot};
pub(crate) use clock::since_boot;
pub use confirm::{Settled, confirm, revert_pending};
pub(crate) use entries::as_written;
pub use following::{Followed, follow};
pub(crate) use holds::was_in_force;
pub use leaving::{Left, Taking, leave, take};
pub use look_after::look_after;
pub use memory::FOR_A_BOOT;
pub use request::{Options, Report, Tell};
pub use seeing_out::see_out;
pub use watch::stand_by;

use super::{Failure, Loaded, shut};
use crate::store::{Docket, Kind, State, set_pending};
use crate::vocabulary as say;
use change::carry_out;
use clock::now;
use entries::{New, entry};
use noted::noted;
use open::opened;
use settle::last_confirmed;
use tipstaff_linux::Protocol;
use tipstaff_linux::ruleset;
use waiting::{Waits, watched};

/// Puts the policy into the kernel, and records it.
///
/// # Errors
/// [`Failure`] if something stops it or the kernel refuses; then nothing was changed. Where it is not
/// known whether the kernel took the rules, that is said, and the way back stands.
pub fn enforce(policy: &Loaded, options: &Options<'_>) -> Result<Report, Failure> {
    memory::must_suffice(policy, options.boot_memory)?;
    carry_out(policy, options, Kind::Enforce, None)
}

/// Puts what the places of a policy hold now in force, all else being as it is: only what is in sets changes, where
/// that will do, and rules go on counting.
///
/// # Errors
/// [`Failure`] as for [`enforce`].
pub(crate) fn refresh(policy: &Loaded, options: &Options<'_>) -> Result<Report, Failure> {
    memory::must_suffice(policy, options.boot_memory)?;
    carry_out(policy, options, Kind::Refresh, None)
}

/// Why this machine's policy would shut out a session that lives now, if it would.
pub(crate) fn locks_out(policy: &Loaded, options: &Options<'_>) -> Option<Failure> {
    // Of another machine's policy nothing bites here.
    guard::this_machine(options.machine, policy, options.home).ok()?;
    guard::guard(options.machine, policy).err()
}

/// Enforces the policy of an earlier entry again: the one of that number, or the one that was
/// confirmed before the last.
///
/// # Errors
/// [`Failure`] as for [`enforce`], or if there is no such entry.
pub fn revert(id: Option<u64>, options: &Options<'_>) -> Result<Report, Failure> {
    let written = Docket::look(options.home)?;
    let mut confirmed = written.entries.iter().rev().filter(|it| it.state == State::Confirmed);
    let found = match id {
        Some(id) => written.entry(id),
        None => {
            let last = confirmed.next().and_then(|it| it.policy.clone());
            confirmed.find(|it| it.policy != last)
        }
    };
    let Some(found) = found else {
        return Err(Failure::usage(
            "there is no such entry to go back to",
            "`tipstaff docket` lists them",
        ));
    };
    if found.kind == Kind::Release {
        return release(options);
    }
    let mut policy = entries::in_any_posture(options.home, found)?;
    // It goes on in the posture in which this machine is now.
    policy.place(options.machine)?;
    policy.must_have_what_is_taken()?;
    carry_out(&policy, options, Kind::Revert, Some(found.id))
}

/// Takes our rules out of the kernel, and records it.
///
/// # Errors
/// [`Failure`] if the kernel refuses.
pub fn release(options: &Options<'_>) -> Result<Report, Failure> {
    let mut docket = opened(options.machine, options.home)?;
    let mut kernel = options.machine.channel(Protocol::Netfilter)?;
    let Some(held) = ruleset::read(&mut kernel)? else {
        let remarks = shut::remark(options.machine).into_iter().collect();
        return Ok(Report { remarks, ..Report::did(say::Changed::NothingToRelease) });
    };
    let back_to = last_confirmed(options.home, &docket);
    let keep = options.keep;
    let effect = "everything passes".to_owned();
    let despite = Vec::new();
    let new = New {
        kind: Kind::Release,
        policy: None,
        of: None,
        effect,
        waits: !keep,
        despite,
        posture: None,
    };
    let mut made = entry(options.machine, new);
    made.host = Some(held.host);
    let id = docket.add(made)?;
    if !keep {
        let shell = docket
            .entries()
            .iter()
            .rev()
            .find_map(|it| Some(it.shell.clone()).filter(|shell| !shell.is_empty()));
        let shell = shell.unwrap_or_else(|| vec!["22/tcp".into()]);
        watched(options, &docket, &Waits { id, back_to, held: true, shell })?;
    }
    if let Err(error) = back::take_out(&mut kernel) {
        let there = options.machine.rules();
        if !matches!(there, Ok(None)) {
            docket.became(id, State::Failed, &now())?;
            set_pending(options.home, None)?;
            return Err(error.into());
        }
    }
    docket.became(id, if keep { State::Confirmed } else { State::Pending }, &now())?;
    let noted = keep.then(|| noted(options.home, &docket, id)).flatten();
    let remarks = noted.into_iter().chain(shut::remark(options.machine)).collect();
    Ok(Report {
        entry: Some(id),
        confirm_within: (!keep).then_some(options.within.as_secs()),
        remarks,
        ..Report::did(say::Changed::Released)
    })
}
