//! What speaks against a change.

use super::guard;
use super::request::Options;
use crate::{Failure, Loaded, likely_packet};
use tipstaff_core::analysis::{self, Code, Finding};

/// What speaks against a change: stops it, or gives what was overruled.
pub(crate) fn objections(policy: &Loaded, options: &Options<'_>) -> Result<Vec<String>, Failure> {
    let mut despite = Vec::new();
    let mut overrule = |word: &str, wish: bool, found: Result<(), Failure>| match found {
        Err(Failure::Stopped { .. }) if wish => {
            despite.push(word.to_owned());
            Ok(())
        }
        other => other,
    };
    overrule(
        "not-this-machine",
        options.not_this_machine,
        guard::this_machine(options.machine, policy, options.home),
    )?;
    let likely = |direction| likely_packet(direction, &policy.plan);
    let found = analysis::review_errors(&policy.policy, &policy.plan, policy.now, &likely);
    no_errors(&found, |code| code != Code::ShellLockout)?;
    let shell = no_errors(&found, |code| code == Code::ShellLockout);
    overrule("locked-out", options.even_if_locked_out, shell)?;
    overrule("locked-out", options.even_if_locked_out, guard::guard(options.machine, policy))?;
    despite.dedup();
    Ok(despite)
}

/// Findings that are errors stop an enforcement.
fn no_errors(found: &[Finding], about: impl Fn(Code) -> bool) -> Result<(), Failure> {
    let errors: Vec<String> = found
        .iter()
        .filter(|it| it.accepted.is_none() && about(it.code))
        .map(|it| format!("{}: {}", it.code.as_str(), it.message))
        .collect();
    if errors.is_empty() {
        return Ok(());
    }
    let help = vec![
        "mend it, or accept it in the policy; `tipstaff review` says more".to_owned(),
        "nothing was changed".to_owned(),
    ];
    Err(Failure::stopped(format!("the review finds an error: {}", errors.join("; ")), help))
}
