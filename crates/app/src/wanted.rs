//! Which posture a policy is worked out for.

use tipstaff_core::policy::Taken;

/// Which posture a policy is worked out for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Wanted {
    /// The one that is in force, as soon as it is worked out for this machine; else none.
    InForce,
    /// The one that is in force, and that the policy does not have.
    Missing(Taken),
    /// The one that is in force, and that the kernel did not tell, with why.
    NotTold(String),
    /// This one, whatever is in force.
    This(Option<Taken>),
}
