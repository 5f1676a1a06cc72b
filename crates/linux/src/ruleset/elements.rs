//! Other addresses in the sets that rules look into, with all else left as it is.

use super::as_meant;
use super::encode::{Changeable, skeleton};
use super::ledger::{Ledger, send};
use super::marks::Marks;
use super::read::Snapshot;
use crate::LinuxError;
use crate::transport::Transport;
use std::collections::HashSet;
use tipstaff_core::program::{Action, RuleProgram, Test, Then};
use tipstaff_wire::nf_tables::{Batch, Element};

/// The batch that makes the kernel's rules what `program` says, if nothing but addresses in sets differs from what is
/// `held`: of the elements that go and come. Its messages are numbered from `sequence` on, and the kernel takes it
/// only while its rules have that generation. `None` where more differs.
///
/// # Errors
/// As for [`super::encode`].
pub fn encode_elements(
    held: &Snapshot,
    (host, program, marks): (&str, &RuleProgram, &Marks),
    (sequence, generation): (u32, u32),
) -> Result<Option<Batch>, LinuxError> {
    if held.host != host || held.dormant || !held.strays.is_empty() || held.marks != *marks {
        return Ok(None);
    }
    let Some(changes) = changes(&held.program, program, host, marks)? else { return Ok(None) };
    let mut batch = Batch::begin_at(sequence, Some(generation));
    for (set, gone, _) in &changes {
        batch.delete_elements(&set.0, gone);
    }
    for (set, _, come) in &changes {
        batch.new_elements(&set.0, come);
    }
    Ok(Some(batch))
}

/// Makes the kernel's rules what `program` says, if nothing but addresses in sets differs from what was `held`, and
/// nobody has changed any rules since they had that [`super::generation`]: in one batch of the elements that go
/// and come. Rules and what they count stay. Gives `None`, having done nothing, where more differs or the kernel
/// does not take it.
///
/// # Errors
/// [`LinuxError::Changed`] if somebody has changed rules; [`LinuxError::Unknown`] and [`LinuxError::ReadBack`]
/// where nobody knows.
pub fn change_elements(
    transport: &mut dyn Transport,
    held: &Snapshot,
    meant: (&str, &RuleProgram, &Marks),
    generation: u32,
) -> Result<Option<Snapshot>, LinuxError> {
    let numbers = (transport.next_sequence(), generation);
    let Some(batch) = encode_elements(held, meant, numbers)? else { return Ok(None) };
    match send(transport, "change addresses", batch, &Ledger::default()) {
        Ok(()) => as_meant(transport, meant.1, meant.2).map(Some),
        Err(error @ (LinuxError::Changed | LinuxError::Unknown { .. })) => Err(error),
        Err(_) => Ok(None),
    }
}

/// A set as it is to be, what goes out of it and what comes into it.
type Change = (Changeable, Vec<Element>, Vec<Element>);

/// What changes in which sets; `None` if anything else does.
fn changes(
    held: &RuleProgram,
    meant: &RuleProgram,
    host: &str,
    marks: &Marks,
) -> Result<Option<Vec<Change>>, LinuxError> {
    let sorted = |program: &RuleProgram| {
        let mut program = program.clone();
        program.sort();
        program
    };
    let (held, meant) = (sorted(held), sorted(meant));
    if !is_understood(&held) || held.logging != meant.logging {
        return Ok(None);
    }
    let (was, old) = skeleton(&held, host, marks)?;
    let (is, new) = skeleton(&meant, host, marks)?;
    if was != is || old.len() != new.len() {
        return Ok(None);
    }
    let changed = old.into_iter().zip(new).map(|(old, new)| {
        let (gone, come) = (without(&old.1, &new.1), without(&new.1, &old.1));
        (new, gone, come)
    });
    Ok(Some(changed.filter(|it| !it.1.is_empty() || !it.2.is_empty()).collect()))
}

/// Whether nothing of it is of somebody else's making, which could not be written down again.
fn is_understood(program: &RuleProgram) -> bool {
    program.chains.iter().flat_map(|it| &it.rules).all(|rule| {
        let tests = rule.tests.iter().all(|it| !matches!(it, Test::Opaque(_)));
        tests
            && match &rule.action {
                Action::Opaque(_) => false,
                Action::Choose(lookup) => {
                    lookup.entries.iter().all(|it| !matches!(it.then, Then::Opaque(_)))
                }
                _ => true,
            }
    })
}

/// The values and whole intervals of some elements that are not among others.
fn without(elements: &[Element], others: &[Element]) -> Vec<Element> {
    let there: HashSet<&[Element]> = intervals(others).collect();
    let left = intervals(elements).filter(|it| !there.contains(it));
    left.flatten().cloned().collect()
}

/// Each value, or beginning and end of an interval, by itself.
fn intervals(elements: &[Element]) -> impl Iterator<Item = &[Element]> {
    elements.chunk_by(|_, next| next.ends_interval)
}
