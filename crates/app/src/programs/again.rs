//! Programs that rules name, recognised anew.

use super::{Report, is_up_to_date, report};
use crate::Failure;
use crate::store::{Docket, Home};
use tipstaff_core::program::{Action, RuleProgram, Test};
use tipstaff_linux::programs::{self, Demand};
use tipstaff_linux::{Machine, Protocol, ruleset};

/// [`refresh`], where something is not recognised as it is now.
pub(crate) fn refresh_if_stale(machine: &dyn Machine, home: &Home) -> Result<(), Failure> {
    // Without it no rules need be read.
    if machine.may_recognise() && machine.recognition()?.is_some() && report(machine)?.is_stale() {
        refresh(machine, home)?;
    }
    Ok(())
}

/// Has the files recognised that the paths of rules lead to now, if they are others than before,
/// and sockets that were handed over since. The rules stay what they are.
///
/// # Errors
/// [`Failure`] if the kernel refuses.
pub fn refresh(machine: &dyn Machine, home: &Home) -> Result<Report, Failure> {
    // Whoever else changes what is enforced waits until this is done.
    let _docket = Docket::open(home)?;
    let mut kernel = machine.channel(Protocol::Netfilter)?;
    let generation = ruleset::generation(&mut kernel)?;
    let Some(found) = ruleset::read(&mut kernel)? else { return report(machine) };
    if found.marks.mask == 0 {
        return report(machine);
    }
    let before = machine.standings(&found.marks)?;
    let demand = Demand {
        mask: found.marks.mask,
        lists: found.marks.lists.keys().cloned().collect(),
        // The rules alone do not say it; who knows nothing looks at everything.
        sending: before.recognition.as_ref().is_none_or(|it| it.sending),
    };
    let prepared = programs::prepare(&demand, &found.marks)?;
    if *prepared.marks() != found.marks {
        if !is_ours(&found.program) {
            prepared.undo();
            return Err(Failure::System {
                message: "somebody has changed our rules in the kernel".into(),
                help: vec!["look with `tipstaff status`, and enforce the policy again".into()],
            });
        }
        let meant = (found.host.as_str(), &found.program, prepared.marks());
        let (held, counted) = (Some(&found), &found.tallies);
        let done = ruleset::enforce_at(&mut kernel, held, meant, generation, counted);
        if let Err(error) = done {
            prepared.undo();
            return Err(error.into());
        }
    }
    prepared.settle()?;
    Ok(Report { refreshed: !is_up_to_date(&before), ..report(machine)? })
}

/// Whether every part of the kernel's rules is one that we make.
fn is_ours(program: &RuleProgram) -> bool {
    let rules = program.chains.iter().flat_map(|it| &it.rules);
    rules.into_iter().all(|rule| {
        !matches!(rule.action, Action::Opaque(_))
            && !rule.tests.iter().any(|it| matches!(it, Test::Opaque(_)))
    })
}
