//! Two things at a time that take long with many rules: what the kernel holds is read while it is worked out what it
//! is to hold.

use crate::Loaded;
use crate::threads::Threads;
use tipstaff_core::hands::Hands;
use tipstaff_linux::ruleset::Snapshot;
use tipstaff_linux::{LinuxError, Machine};

/// Of policies with more decisions than this, what an edit changes is worked out from the policy that was in force.
const LONG: usize = 300;

/// Whether the diagrams of a policy take longer than to work out once more what was in force before.
pub(crate) fn is_long(policy: &Loaded) -> bool {
    policy.plan.decisions().count() > LONG
}

/// The kernel's rules; meanwhile a long policy's are worked out.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn rules(
    machine: &dyn Machine,
    policy: &Loaded,
) -> Result<Option<Snapshot>, LinuxError> {
    rules_and(machine, policy, || ()).map(|it| it.0)
}

/// Likewise, and what else there is to be done for a long policy meanwhile.
///
/// # Errors
/// As for [`rules`].
pub(crate) fn rules_and<T: Send>(
    machine: &dyn Machine,
    policy: &Loaded,
    work: impl FnOnce() -> T + Send,
) -> Result<(Option<Snapshot>, Option<T>), LinuxError> {
    if !is_long(policy) {
        return Ok((machine.rules()?, None));
    }
    let aside = || {
        policy.program();
        work()
    };
    let (done, held) = Threads.both(aside, || machine.rules());
    Ok((held?, Some(done)))
}
