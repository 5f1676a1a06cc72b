//! What was read, put in force, where nothing else would come along.

use crate::as_in_force::as_in_force;
use crate::store::{Docket, Home, kept_policy, pending};
use crate::transaction::{self, Options};
use crate::vocabulary as say;
use crate::{Failure, Loaded, load_for_kernel};
use std::path::Path;
use tipstaff_core::policy::Diagnostic;
use tipstaff_linux::ruleset;

/// Whether the policy's rules are in force as it stands, so that what changes is only what places hold.
pub(super) enum Before {
    /// They are; in the way in which they were put in force.
    InStep { without_programs: bool, not_this_machine: bool },
    /// No rules are in force.
    Nothing,
    /// They are not, or it is not known, as a whole sentence.
    Otherwise(String),
}

pub(super) fn in_step(path: &Path, host: Option<&str>, options: &Options<'_>) -> Before {
    let held = match options.machine.rules() {
        Ok(Some(held)) if !held.dormant => held,
        Ok(_) => return Before::Nothing,
        Err(error) => {
            return Before::Otherwise(format!("whether rules are in force is not known: {error}"));
        }
    };
    // What was put in force with what waits would stay with it, whoever confirms.
    if !matches!(pending(options.home), Ok(None)) {
        return Before::Otherwise(
            "it is not put in force while a change waits to be confirmed; read the files again then".into(),
        );
    }
    let policy = match load_for_kernel(options.machine, path, host) {
        Ok(policy) => policy,
        // What had not been read before cannot be in force.
        Err(Failure::Input { problems, .. }) if problems.iter().all(is_unread) => {
            return Before::Otherwise(NOT_IN_STEP.into());
        }
        Err(failure) => {
            return Before::Otherwise(format!("it is not put in force: {}", failure.line()));
        }
    };
    let then = "read the files again";
    let how = as_in_force(&policy, &held, options, then);
    let how = how.or_else(|failure| match was_in_force(options, &policy, &held) {
        Some(known) => as_in_force(&known, &held, options, then),
        None => Err(failure),
    });
    match how {
        Ok(how) => Before::InStep {
            without_programs: how.without_programs,
            not_this_machine: how.not_this_machine,
        },
        Err(_) => Before::Otherwise(NOT_IN_STEP.into()),
    }
}

fn is_unread(problem: &Diagnostic) -> bool {
    ["not-read-yet", "damaged-snapshot"].contains(&problem.code)
}

const NOT_IN_STEP: &str = "it is not in force yet, since the policy has changes that are not in force either; \
                           `tipstaff enforce` puts both in force";

/// The policy that is in force, if it is this one but for what places held: whoever was to put that in force was
/// stopped.
fn was_in_force(
    options: &Options<'_>,
    policy: &Loaded,
    held: &ruleset::Snapshot,
) -> Option<Loaded> {
    let home: &Home = options.home;
    let written = Docket::look(home).ok()?;
    let last = written.confirmed()?;
    let kept = kept_policy(home, last).ok()?;
    let texts = policy.sources.iter().filter(|it| it.place.is_none()).map(|it| &*it.text);
    if !texts.eq(kept.files.iter().map(|it| it.1.as_str())) {
        return None;
    }
    let mut known = transaction::as_written(home, last).ok()?;
    known.place(options.machine).ok()?;
    transaction::was_in_force(&known, held).then_some(known)
}

/// Puts what is kept now in force.
pub(super) fn put_in_force(
    path: &Path,
    host: Option<&str>,
    options: &Options<'_>,
    before: Before,
) -> Result<(Option<transaction::Report>, Option<String>), Failure> {
    let options = match before {
        Before::InStep { without_programs, not_this_machine } => {
            &Options { keep: true, without_programs, not_this_machine, ..*options }
        }
        Before::Nothing => return Ok((None, None)),
        Before::Otherwise(remark) => return Ok((None, Some(remark))),
    };
    let policy = load_for_kernel(options.machine, path, host)?;
    let report = transaction::refresh(&policy, options)?;
    let done = report.done != say::Changed::Unchanged;
    Ok((done.then_some(transaction::Report { told: true, ..report }), None))
}
