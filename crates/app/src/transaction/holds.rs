//! Whether the kernel holds what a policy asks for.

use crate::Loaded;
use tipstaff_core::program::{self, RuleProgram};
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

fn holds(
    policy: &Loaded,
    before: &Snapshot,
    same: impl Fn(&RuleProgram, &RuleProgram) -> bool,
) -> bool {
    let now = |program: &RuleProgram| program.clone().at(policy.now);
    !before.dormant
        && before.strays.is_empty()
        && before.host == policy.plan.host
        && same(&now(&policy.program), &now(&before.program))
}
