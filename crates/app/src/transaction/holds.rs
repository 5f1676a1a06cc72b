//! Whether the kernel holds what a policy asks for.

use super::entries::recorded;
use crate::Loaded;
use crate::store::{Docket, Home};
use tipstaff_core::program::{self, RuleProgram};
use tipstaff_linux::Machine;
use tipstaff_linux::ruleset::Snapshot;

/// Whether the kernel holds just what the policy asks for, at this moment.
pub(crate) fn is_in_force(policy: &Loaded, before: &Snapshot) -> bool {
    holds(policy, before, |meant, found| program::compare(meant, found).is_empty())
}

/// Whether the kernel holds what the policy asks for, or asked for when interfaces had other names and the
/// machine was on other networks.
pub(crate) fn was_in_force(policy: &Loaded, before: &Snapshot) -> bool {
    if is_in_force(policy, before) {
        return true;
    }
    let free = policy.moving_names();
    policy.follows()
        && holds(policy, before, |meant, found| {
            let moved = RuleProgram { on_link: meant.on_link.clone(), ..found.clone() };
            program::compare(meant, &moved).is_empty()
                || !free.is_empty() && program::renamed(meant, &moved, &free)
        })
}

/// The policy for which the kernel was given the rules that it holds: the last that was confirmed, if they are just what
/// it asks for. In a posture more than one policy holds.
pub(super) fn put_there(machine: &dyn Machine, home: &Home, held: &Snapshot) -> Option<Loaded> {
    let written = Docket::look(home).ok()?;
    let last = written.confirmed().filter(|it| it.posture.is_none())?;
    let policy = recorded(machine, home, last).ok()?;
    (policy.plan.taken.is_none() && is_in_force(&policy, held)).then_some(policy)
}

fn holds(
    policy: &Loaded,
    before: &Snapshot,
    same: impl Fn(&RuleProgram, &RuleProgram) -> bool,
) -> bool {
    !before.dormant
        && before.strays.is_empty()
        && before.host == policy.plan.host
        && same(&policy.program().as_of(policy.now), &before.program.as_of(policy.now))
}
