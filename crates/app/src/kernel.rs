//! `status --kernel`: what this kernel can do for the policy, and what is done without it.

use super::{Failure, Loaded};
use crate::Outcome;
use crate::vocabulary as say;
use serde::Serialize;
use tipstaff_linux::{Machine, Need, OLDEST, is_too_old};

/// What was found by trying.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host of the policy.
    pub host: String,
    /// The kernel's name for itself.
    pub kernel: String,
    /// The oldest version on which the promises are proven.
    pub oldest: String,
    /// Whether this one is older.
    pub too_old: bool,
    /// Whether the policy cannot be enforced as it is.
    pub falls_short: bool,
    /// Each thing that was tried, in order.
    pub abilities: Vec<Ability>,
}

/// Something that the policy or a command needs.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Ability {
    /// The need that was tried.
    pub name: say::Need,
    /// What it is for.
    pub what: &'static str,
    /// Whether this kernel has it.
    pub there: bool,
    /// Why not, if it has not.
    pub lacking: Option<String>,
    /// What is done without it; `null` if it is there.
    pub without: Option<&'static str>,
}

impl Report {
    /// Whether the kernel can do it all, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        if self.falls_short { Outcome::Found } else { Outcome::Fine }
    }
}

/// Tries what the policy needs. Nothing is changed.
///
/// # Errors
/// [`Failure`] if this process may not try.
pub fn report(machine: &dyn Machine, loaded: &Loaded) -> Result<Report, Failure> {
    // Who may not even look would take every lack of a right for a lack of the kernel.
    machine.generation()?;
    let kernel = machine.release();
    let too_old = is_too_old(&kernel);
    let found = machine.abilities(&loaded.plan.host, loaded.program())?;
    let needs_programs = !loaded.program().owner_lists().is_empty();
    let needed = |need: Need| need == Need::Rules || (need == Need::Programs && needs_programs);
    let falls_short = too_old || found.iter().any(|it| needed(it.need) && it.lacking.is_some());
    let abilities = found.into_iter().map(|it| Ability {
        name: it.need.into(),
        what: it.what,
        there: it.lacking.is_none(),
        without: it.lacking.is_some().then_some(it.without),
        lacking: it.lacking,
    });
    Ok(Report {
        host: loaded.plan.host.clone(),
        kernel,
        oldest: oldest(),
        too_old,
        falls_short,
        abilities: abilities.collect(),
    })
}

fn oldest() -> String {
    format!("{}.{}", OLDEST.0, OLDEST.1)
}

/// Refuses to work with a kernel on which nothing was proven. A boot does not ask: rules that it takes
/// are better than none.
///
/// # Errors
/// [`Failure::System`], if it is one.
pub fn must_be_new_enough(machine: &dyn Machine) -> Result<(), Failure> {
    let kernel = machine.release();
    if !is_too_old(&kernel) {
        return Ok(());
    }
    Err(Failure::System {
        message: format!(
            "this kernel, {}, is older than {}, the oldest on which rules are proven; nothing was changed",
            kernel.escape_debug(),
            oldest()
        ),
        help: Vec::new(),
    })
}
