//! From one program in the kernel to another by what differs.
//!
//! A program is always the same chains, rules and sets in the kernel ([`parts`]), whatever was there before. So what
//! differs between two programs is known before anything is asked of the kernel; it is changed in one batch, which
//! the kernel takes only while nobody has changed anything else. What stays is not touched, and goes on counting.
//!
//! A packet goes by the rules of when it came to the hook, but the kernel looks into sets as they are in the instant
//! in which it looks (`nft_genmask_cur` in net/netfilter). So a set that rules look into is never changed together with
//! them: another takes its place, and the old one is taken out when no packet can be on its way to it.

mod change;
mod check;
mod counts;
mod instead;
mod variants;
mod write;

use super::at_once::at_once;
use super::encode::{Parts, parts};
use super::ledger::{Ledger, send};
use super::listed::elements;
use super::marks::Meant;
use super::names::TABLE;
use super::read::{Snapshot, read};
use super::read_back::as_meant;
use super::record::{self, Decisions};
use super::{generation as generation_of, now};
use crate::LinuxError;
use crate::transport::Transport;
use change::{Change, work_out};
pub(super) use instead::{Instead, instead};
use rustix::thread::MembarrierCommand;
use std::collections::HashSet;
use std::time::Duration;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{Action, Entry, ProgramRule, RuleProgram, Test, Then};
use tipstaff_wire::nf_tables::{Batch, Set};
use variants::Names;
use write::There;

/// A decision has a number for each direction in which it admits, and turns away; in the usual case one.
const NUMBERS: usize = 4;
const SPARE_NUMBERS: usize = 256;

/// Makes the kernel's rules what is `meant` from what is `held`, provided that nobody has changed any rules since they
/// had that [`super::generation`]: in one batch of what differs. What stays goes on counting; what is replaced goes
/// on from what it has counted, but for the decisions that are `reset`. What came into the kernel is read back.
/// Gives `false`, having done nothing, where this is not possible.
///
/// # Errors
/// [`LinuxError::Changed`] if somebody has changed rules; [`LinuxError::Unknown`] and [`LinuxError::ReadBack`]
/// where nobody knows what the kernel holds.
pub fn change(
    transport: &mut dyn Transport,
    held: &Snapshot,
    meant: Meant<'_>,
    generation: u32,
    reset: &[String],
) -> Result<bool, LinuxError> {
    let reset: HashSet<&str> = reset.iter().map(String::as_str).collect();
    let (_, program, marks) = meant;
    if !is_comparable(held, meant) {
        return Ok(false);
    }
    // Where something cannot be read, all of it is loaded anew, or why not is said then.
    let Ok(Some((old, new))) = both(transport, held, meant) else { return Ok(false) };
    let Some(change) = work_out(&old, &new, &reset) else { return Ok(false) };
    let Ok(Some(mut there)) = There::read(transport, &old, &change) else { return Ok(false) };
    if change.is_nothing() {
        return match generation_of(transport)? == generation {
            true => Ok(true),
            false => Err(LinuxError::Changed),
        };
    }
    let batch = Batch::begin_at(transport.next_sequence(), Some(generation));
    let Some(batch) = there.write(batch, &change, (&new, &reset)) else { return Ok(false) };
    match send(transport, "change rules", batch, &Ledger::default()) {
        Ok(()) => {}
        Err(error @ (LinuxError::Changed | LinuxError::Unknown { .. })) => return Err(error),
        Err(_) => return Ok(false),
    }
    let Some(times) = clean_up(transport, &there, &change) else {
        // What is left decides nothing, but nobody would know what it is for.
        return anew(transport, meant).map_err(|it| LinuxError::ReadBack(it.to_string()));
    };
    let names = (&new, &there.are);
    if !is_held(transport, &change, names, (generation, 1 + times)).unwrap_or(false) {
        as_meant(transport, program, marks)?;
    }
    Ok(true)
}

/// What a rule does for each decision.
pub(super) fn told(rule: &ProgramRule) -> Vec<(&RuleId, Option<&Entry>, Option<&ProgramRule>)> {
    if let Some(id) = &rule.id {
        return vec![(id, None, Some(rule))];
    }
    let Action::Choose(lookup) = &rule.action else { return Vec::new() };
    let decides = |it| {
        let entry: &Entry = it;
        match &entry.then {
            Then::Allow(id) | Then::Deny(id) => Some((id, Some(entry), None)),
            _ => None,
        }
    };
    lookup.entries.iter().filter_map(decides).collect()
}

/// Puts all of it there, where it is in force already, and has it go on counting.
fn anew(transport: &mut dyn Transport, meant: Meant<'_>) -> Result<bool, LinuxError> {
    let at = generation_of(transport)?;
    let counted = read(transport)?.map(|it| it.tallies).unwrap_or_default();
    at_once(transport, meant, Some(at), &counted).map(|_| true)
}

/// Takes out what is not used any more, once no packet is on its way by the rules of before. Gives how often the kernel's
/// rules changed by that; `None` if it does not take it out.
fn clean_up(transport: &mut dyn Transport, there: &There<'_>, change: &Change<'_>) -> Option<u32> {
    let batch = Batch::begin(transport.next_sequence());
    let Some(batch) = there.clean_up(batch, change) else { return Some(0) };
    take_out(transport, batch).then_some(1)
}

/// Has the kernel take out what no rule leads to any more, once no packet is on its way by the rules of before.
fn take_out(transport: &mut dyn Transport, batch: Batch) -> bool {
    let waited = rustix::thread::membarrier(MembarrierCommand::Global);
    if waited.is_err() {
        // Some kernels are built without it.
        std::thread::sleep(ON_THE_WAY);
    }
    send(transport, "take out old rules", batch, &Ledger::default()).is_ok()
}

/// No packet is on its way for so long.
const ON_THE_WAY: Duration = Duration::from_millis(50);

/// Whether the kernel holds what was sent, and nobody has changed anything else: its rules then are of the next
/// generation.
fn is_held(
    transport: &mut dyn Transport,
    change: &Change<'_>,
    new: (&Parts, &Names),
    (generation, times): (u32, u32),
) -> Result<bool, LinuxError> {
    // The kernel leaves out 0.
    let next = (0..times).fold(generation, |it, _| it.checked_add(1).unwrap_or(1));
    Ok(check::holds(transport, change, new)? && generation_of(transport)? == next)
}

/// Whether both differ in lists of rules at most, and all that is there is of our making.
fn is_comparable(held: &Snapshot, (host, program, marks): Meant<'_>) -> bool {
    let was = &held.program;
    held.host == host
        && !held.dormant
        && held.strays.is_empty()
        && held.marks == *marks
        && was.record == program.record
        && was.logging == program.logging
        && is_understood(was)
}

/// What both are in the kernel, with the numbers that decisions have there.
fn both(
    transport: &mut dyn Transport,
    held: &Snapshot,
    meant: Meant<'_>,
) -> Result<Option<(Parts, Parts)>, LinuxError> {
    let (host, program, marks) = meant;
    let Some(known) = numbers(transport, held, program)? else { return Ok(None) };
    let now = now();
    let (old, new) = std::thread::scope(|scope| {
        let old = scope.spawn(|| parts((host, &held.program, marks), (&known, now)));
        let new = parts(meant, (&known, now));
        (old.join(), new)
    });
    match (old, new) {
        (Ok(Ok(old)), Ok(new)) => Ok(Some((old, new))),
        _ => Ok(None),
    }
}

/// The numbers that decisions have in the kernel. Those of decisions that are there no more stay, but not for ever:
/// `None` if it is time that all are numbered anew.
fn numbers(
    transport: &mut dyn Transport,
    held: &Snapshot,
    program: &RuleProgram,
) -> Result<Option<Decisions>, LinuxError> {
    if held.program.record.is_none() && held.program.logging.is_none() {
        return Ok(Some(Decisions::default()));
    }
    let set = Set { table: TABLE.into(), name: record::DECISIONS.into(), ..Set::default() };
    let known = Decisions::of(&elements(transport, "read the numbers of decisions", &set)?);
    let deciding: HashSet<&RuleId> =
        program.chains.iter().flat_map(|it| &it.rules).flat_map(told).map(|it| it.0).collect();
    Ok((known.count() <= deciding.len() * NUMBERS + SPARE_NUMBERS).then_some(known))
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
