//! The posture in which a change is made.

use super::clock::since_boot;
use crate::Loaded;
use crate::store::{Entry, InPosture};
use tipstaff_core::policy::Taken;

/// The posture that a change is to be written down in: as it was taken, or as it has been in force until now.
pub(super) fn of_change(
    policy: &Loaded,
    asked: Option<&InPosture>,
    last: Option<&Entry>,
) -> Option<InPosture> {
    let taken = policy.plan.taken.as_ref()?;
    let same = |it: &&InPosture| it.taken().is_some_and(|it| it.is_as(taken));
    let of_last = last.and_then(|it| it.posture.as_ref()).filter(same);
    Some(asked.filter(same).or(of_last).cloned().unwrap_or_else(|| InPosture::of(taken)))
}

/// The posture of an entry, unless that is over.
pub(super) fn of_entry(entry: &Entry, policy: &Loaded) -> Option<Taken> {
    let situation = entry.situation();
    let of_this_boot = situation.is_of_this_boot();
    situation.posture?.by_now(of_this_boot, policy.now, since_boot())?.taken()
}

/// Whether a policy is in the posture in which an entry was written down.
pub(super) fn is_in_posture_of(policy: &Loaded, entry: &Entry) -> bool {
    policy.is_in_posture(of_entry(entry, policy).as_ref())
}
