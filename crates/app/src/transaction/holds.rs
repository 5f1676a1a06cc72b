//! Whether the kernel holds what a policy asks for.

use super::entries::recorded;
use crate::Loaded;
use crate::rules_digest::digest_of;
use crate::store::{Docket, Home, digest};
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

/// The policy that was confirmed last, and the digest of the rules that it was worked out to.
pub(super) type Last = Option<(Loaded, Option<String>)>;

/// The policy for which the kernel was given the rules that it holds: the last that was confirmed, if they are what it
/// was worked out to, or is. In a posture more than one policy holds.
pub(super) fn put_there(last: Last, held: &Snapshot) -> Option<Loaded> {
    let (policy, rules) = last?;
    let known = rules.is_some_and(|it| {
        it == digest_of(&held.program)
            && !held.dormant
            && held.strays.is_empty()
            && held.host == policy.plan.host
    });
    (known || is_in_force(&policy, held)).then_some(policy)
}

/// What was confirmed last; `None` if it is in a posture, or is this one.
pub(super) fn confirmed_before(machine: &dyn Machine, home: &Home, policy: &Loaded) -> Last {
    let written = Docket::look(home).ok()?;
    let last = written.confirmed().filter(|it| it.posture.is_none())?;
    if last.policy.as_ref() == Some(&digest(&policy.plan.host, &policy.sources).0) {
        return None;
    }
    let before = recorded(machine, home, last).ok()?;
    before.plan.taken.is_none().then(|| (before, last.rules.clone()))
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::loaded;
    use tipstaff_core::policy::Source;
    use tipstaff_linux::ruleset::Marks;

    /// Rules that were written down as what the policy was worked out to are known as that, even if they would be
    /// worked out otherwise today; others are not, nor these in a table that decides nothing or is another host's.
    #[test]
    fn what_was_worked_out_is_known_by_its_digest() {
        let text = "edition = 1\n[host.sluice]\naddresses = [\"192.0.2.10\"]\n\
                    [[host.sluice.rule]]\nname = \"web\"\nallow = [\"443/tcp\"]\n";
        let policy = || loaded("policy.toml", vec![Source::new("policy.toml", text)], None).ok();
        let mut program = policy().expect("a policy").program().clone();
        // As another version might have it.
        let rules = &mut program.chains[0].rules;
        rules.swap(0, 1);
        let digest = digest_of(&program);
        let held = Snapshot {
            host: "sluice".into(),
            dormant: false,
            program,
            strays: Vec::new(),
            marks: Marks::default(),
            tallies: Vec::new(),
        };
        let knows = |held: &Snapshot, rules: Option<&String>| {
            put_there(Some((policy().expect("a policy"), rules.cloned())), held).is_some()
        };
        assert!(knows(&held, Some(&digest)));
        assert!(!knows(&held, None) && !knows(&held, Some(&"0".repeat(64))));
        let asleep = Snapshot { dormant: true, ..held.clone() };
        let of_another = Snapshot { host: "bench".into(), ..held.clone() };
        assert!(!knows(&asleep, Some(&digest)) && !knows(&of_another, Some(&digest)));
        let mut other = held;
        other.program.chains[0].rules.pop();
        assert!(!knows(&other, Some(&digest)));
    }
}
