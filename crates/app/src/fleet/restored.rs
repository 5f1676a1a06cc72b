//! What somebody changed on a host itself is given up for what it took last, whatever is rolled out just now.

use super::in_force::{in_force, policy_of};
use super::kept::{self, Member};
use super::place::Place;
use super::taken::{Taken, nothing};
use super::trust::Trust;
use crate::store::Home;
use crate::vocabulary as say;
use crate::{Failure, now};
use tipstaff_core::policy::Time;
use tipstaff_linux::Machine;

/// Puts what was taken last back in force and in its place, if something else is there.
///
/// # Errors
/// [`Failure`] if it cannot be read, worked out or put in force.
pub(super) fn restore(
    machine: &dyn Machine,
    home: &Home,
    trust: &Trust,
    place: &Place,
    member: Member,
) -> Result<Taken, Failure> {
    let kept = kept::bundle(home)?.filter(|_| member.has.is_some());
    let (Some(has), Some((bytes, content))) = (member.has.clone(), kept) else {
        return Ok(nothing(member, None));
    };
    if !kept::changed_here(home, &place.policy)? {
        return Ok(nothing(member, None));
    }
    let stopped = |(_, why): (&str, String)| {
        Failure::stopped(why, vec!["what is in force and in the files is as it was".into()])
    };
    let sealed = Time::parse(&content.statement.sealed).unwrap_or_else(now);
    let policy = policy_of(machine, place, &content.policy, sealed).map_err(stopped)?;
    let effects = in_force(machine, home, trust, place, &policy)?.map_err(stopped)?;
    let number = has.number;
    let put = kept::put(home, &place.policy, (number, &bytes), &content.policy)?;
    Member { has: Some(put.clone()), ..member }.write(home)?;
    let (number, has) = (Some(number), Some(put));
    let done = say::Took::Taken;
    Ok(Taken { done, number, has, refused: None, not_rehearsed: None, not_said: None, effects })
}
