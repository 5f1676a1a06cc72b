//! Rules into the kernel, whatever is there.

use super::at_once::at_once;
use super::difference::{Instead, change, instead, told};
use super::generation as generation_of;
use super::marks::{self, Marks, Meant};
use super::read::{Snapshot, read};
use super::tally::Tally;
use crate::LinuxError;
use crate::transport::Transport;
use std::collections::HashSet;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::RuleProgram;

/// Puts `program` into the kernel in place of whatever our table held, in one batch, and reads it back; what it counts
/// begins then, and is not read. Where rules are in force, use [`enforce_at`] or [`go_to`].
///
/// # Errors
/// [`LinuxError::RuleRefused`] if the kernel refuses a rule, and others of [`LinuxError`]; in
/// each case the kernel holds what it held before, except for [`LinuxError::ReadBack`], and for
/// [`LinuxError::Unknown`], where nobody knows.
pub fn enforce(
    transport: &mut dyn Transport,
    host: &str,
    program: &RuleProgram,
) -> Result<Snapshot, LinuxError> {
    enforce_marked(transport, host, program, &marks::alone(program)?)
}

/// Like [`enforce`], with the numbers by which programs are known.
///
/// # Errors
/// As for [`enforce`].
pub fn enforce_marked(
    transport: &mut dyn Transport,
    host: &str,
    program: &RuleProgram,
    marks: &Marks,
) -> Result<Snapshot, LinuxError> {
    load(transport, None, (host, program, marks), None, &[])
}

/// Like [`enforce`], but only if nobody has changed any of the kernel's rules since they had this
/// [`generation`]; and decisions go on counting from what is `carried` over. Programs are known by
/// the numbers of `marks`. Where it is known what is `held`, packets on their way meet all the rules of before, or
/// all of the new ones.
///
/// # Errors
/// As for [`enforce`]; [`LinuxError::Changed`] if somebody has.
pub fn enforce_at(
    transport: &mut dyn Transport,
    held: Option<&Snapshot>,
    meant: Meant<'_>,
    generation: u32,
    carried: &[Tally],
) -> Result<Snapshot, LinuxError> {
    load(transport, held, meant, Some(generation), carried)
}

/// Puts `program` into the kernel like [`enforce_marked`], by what differs from what is there if
/// that is possible. Decisions that are worked out to the same rules go on counting.
///
/// # Errors
/// As for [`enforce_marked`].
pub fn go_to(
    transport: &mut dyn Transport,
    host: &str,
    program: &RuleProgram,
    marks: &Marks,
) -> Result<(), LinuxError> {
    let by_parts = generation_of(transport).and_then(|at| {
        let Some(held) = read(transport)? else { return Ok(false) };
        let reset = told_otherwise(&held.program, program);
        change(transport, &held, (host, program, marks), at, &reset)
    });
    match by_parts {
        Ok(true) => Ok(()),
        // Whatever came of it, this puts all of it there.
        _ => {
            let held = read(transport).ok().flatten();
            load(transport, held.as_ref(), (host, program, marks), None, &[]).map(drop)
        }
    }
}

/// The decisions that are worked out to other rules.
fn told_otherwise(one: &RuleProgram, other: &RuleProgram) -> Vec<String> {
    let [one, other] = [one, other].map(|program| {
        let rules = program.chains.iter().flat_map(|it| &it.rules);
        rules.flat_map(told).collect::<HashSet<_>>()
    });
    let ids: HashSet<&RuleId> = one.symmetric_difference(&other).map(|it| it.0).collect();
    ids.into_iter().map(ToString::to_string).collect()
}

/// Puts rules in the place of those that are `held`, if that is known; what is not understood there is replaced at once.
fn load(
    transport: &mut dyn Transport,
    held: Option<&Snapshot>,
    meant: Meant<'_>,
    generation: Option<u32>,
    carried: &[Tally],
) -> Result<Snapshot, LinuxError> {
    let mut generation = generation;
    if let Some(held) = held {
        match instead(transport, held, meant, generation, carried)? {
            Instead::Done(snapshot) => return Ok(*snapshot),
            Instead::NotDone => {}
            // It was what was to be changed.
            Instead::Halfway => generation = None,
        }
    }
    at_once(transport, meant, generation, carried)
}
