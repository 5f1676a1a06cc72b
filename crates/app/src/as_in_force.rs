//! Changes that add one thing to what is in force, and nothing else.

use crate::transaction::{self, Options};
use crate::{Failure, Loaded};
use tipstaff_linux::ruleset::Snapshot;

/// How the policy as it is in force was chosen to be.
///
/// # Errors
/// [`Failure`] if it has changes that are not in force: they would come into what is done `then`.
pub(crate) fn as_in_force<'o>(
    loaded: &Loaded,
    held: &Snapshot,
    options: &Options<'o>,
    then: &str,
) -> Result<Options<'o>, Failure> {
    // Whatever machine the policy is for: it was put in force on this one.
    let options = Options { not_this_machine: true, ..*options };
    if transaction::was_in_force(loaded, held) {
        return Ok(options);
    }
    let mut without = loaded.clone();
    without.leave_out_programs();
    if transaction::was_in_force(&without, held) {
        return Ok(Options { without_programs: true, ..options });
    }
    Err(Failure::stopped(
        "the policy has changes that are not in force, and they would be now",
        vec![
            "`tipstaff compare kernel` tells them".into(),
            format!("`tipstaff enforce` puts them in force; then {then}"),
        ],
    ))
}
