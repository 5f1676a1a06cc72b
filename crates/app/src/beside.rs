//! Two things at a time that take long with many rules: what the kernel holds is read while it is worked out what it
//! is to hold.

use crate::store::Home;
use crate::threads::Threads;
use crate::{Failure, Loaded, known};
use std::sync::mpsc::sync_channel;
use tipstaff_core::hands::Hands;
use tipstaff_linux::ruleset::Snapshot;
use tipstaff_linux::{LinuxError, Machine};

/// Of policies with more decisions than this, what an edit changes is worked out from the policy that was in force.
const LONG: usize = 300;

/// Whether the diagrams of a policy take longer than to work out once more what was in force before.
pub(crate) fn is_long(policy: &Loaded) -> bool {
    policy.plan.decisions().count() > LONG
}

/// The kernel's rules, and what is made meanwhile.
///
/// # Errors
/// Those of what is made come first; then [`LinuxError`] if the kernel does not let us read.
pub(crate) fn rules_beside<T: Send>(
    machine: &dyn Machine,
    make: impl FnOnce() -> Result<T, Failure> + Send,
) -> Result<(T, Option<Snapshot>), Failure> {
    let (held, made) = Threads.both(|| machine.rules(), make);
    Ok((made?, held?))
}

/// Whether the kernel's rules are known to be a long policy's without working that out.
pub(crate) fn are_known(home: &Home, policy: &Loaded, held: &Snapshot) -> bool {
    if !is_long(policy) {
        return false;
    }
    let (noted, found) =
        Threads.both(|| known::rules_of(home, policy), || known::digest_as_said(policy, held));
    noted.is_some() && noted == found
}

/// The kernel's rules, and whether they are known to be a long policy's. If nobody noted what it is worked out to, that
/// is done meanwhile.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn rules(
    machine: &dyn Machine,
    home: &Home,
    policy: &Loaded,
) -> Result<Option<(Snapshot, bool)>, LinuxError> {
    if !is_long(policy) {
        return Ok(machine.rules()?.map(|held| (held, false)));
    }
    let aside = || {
        let noted = known::rules_of(home, policy);
        if noted.is_none() {
            policy.program();
        }
        noted
    };
    let (noted, held) = Threads.both(aside, || machine.rules());
    Ok(held?.map(|held| {
        let known = noted.is_some() && noted == known::digest_as_said(policy, &held);
        (held, known)
    }))
}

/// The kernel's rules, and what `then` makes of them and of what `work` does for a long policy. Meanwhile its rules are
/// worked out.
///
/// # Errors
/// As for [`rules`].
pub(crate) fn rules_and<T: Send, R: Send>(
    machine: &dyn Machine,
    policy: &Loaded,
    work: impl FnOnce() -> T + Send,
    then: impl FnOnce(Option<&Snapshot>, Option<T>) -> R + Send,
) -> Result<(Option<Snapshot>, R), LinuxError> {
    if !is_long(policy) {
        let held = machine.rules()?;
        let made = then(held.as_ref(), None);
        return Ok((held, made));
    }
    let (give, take) = sync_channel(1);
    // The first of two never waits for the second, which may come after it.
    let aside = move || {
        let _ = give.send(work());
        policy.program();
    };
    let here = move || -> Result<(Option<Snapshot>, R), LinuxError> {
        let held = machine.rules()?;
        let made = then(held.as_ref(), take.recv().ok());
        Ok((held, made))
    };
    Threads.both(aside, here).1
}
