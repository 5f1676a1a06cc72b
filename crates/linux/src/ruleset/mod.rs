//! Rule programs in the kernel.
//!
//! All that is ours lives in one table of the family `inet`. It is replaced as a whole, or [`change`]d where it
//! differs, in one batch, which the kernel applies entirely or not at all. Tables of others are never changed.

mod decode;
mod difference;
mod encode;
mod keys;
mod ledger;
mod left_over;
mod listed;
mod marks;
mod moment;
mod names;
mod others;
mod owners;
mod pace;
mod quiet;
mod read;
mod record;
mod reopen;
mod reported;
mod shut;
mod tally;
mod values;

pub use difference::{Meant, change, go_to};
pub use encode::encode;
pub use ledger::Ledger;
pub(crate) use ledger::send;
pub(crate) use listed::rules_of;
pub use marks::{DEFAULT_MASK, Marks};
pub(crate) use marks::{too_many_beside, too_many_programs};
pub use names::{LOG_GROUP, TABLE};
pub(crate) use names::{WATCH_TABLES, interface_key, named, state_bit};
pub(crate) use others::is_of_ours;
pub use others::{Denies, OtherChain, OtherTable, Sees, others};
pub use owners::{Numbered, Whose, is_program};
pub use quiet::{Tuple, keep_quiet};
use read::read_table;
pub(crate) use read::tables;
pub use read::{Snapshot, read, taken};
pub(crate) use record::Decided;
pub use record::{Began, Caller, Callers, MOST as MOST_CALLERS, Wanted, Who};
pub use reported::reported;
pub(crate) use reported::{WholeList, whole_list};
pub use shut::{Door, Shut, door, open, shut};
pub use tally::{Count, Tally};
pub(crate) use values::{Key as KernelKey, before, largest, set_of};

use crate::LinuxError;
use crate::transport::Transport;
use difference::Instead;
use encode::Before;
use std::time::{SystemTime, UNIX_EPOCH};
use tipstaff_core::program::{RuleProgram, compare};
use tipstaff_wire::netlink::{ERROR, split};
use tipstaff_wire::nf_tables::{Batch, ask_generation, decode_generation, message_kind};

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

/// So many of those who came last are carried over in the moment in which rules are replaced, the others behind it.
const AT_ONCE: usize = 1_024;

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
        match difference::instead(transport, held, meant, generation, carried)? {
            Instead::Done(snapshot) => return Ok(*snapshot),
            Instead::NotDone => {}
            // It was what was to be changed.
            Instead::Halfway => generation = None,
        }
    }
    at_once(transport, meant, generation, carried)
}

/// Puts rules in the place of whatever our table held, in one batch.
fn at_once(
    transport: &mut dyn Transport,
    (host, program, marks): Meant<'_>,
    generation: Option<u32>,
    carried: &[Tally],
) -> Result<Snapshot, LinuxError> {
    let callers = match program.record {
        None => None,
        Some(record) => {
            // Evidence about rules has to know whether any found no room.
            let known = match record.admitted {
                true => record::read(transport),
                false => record::entries(transport),
            };
            match generation {
                Some(_) => known?,
                // Whoever goes back, or closes at boot, is not to be kept from it by a record.
                None => known.unwrap_or_default(),
            }
        }
    };
    // Not all at once: whoever fills the record is not to make the rules too much to be sent.
    let latest = callers.as_ref().map(|it| it.latest(AT_ONCE));
    let mut put = |callers: Option<&Callers>| {
        let batch = Batch::begin_at(transport.next_sequence(), generation);
        let before = Before { tallies: carried, callers, known: None, now: now() };
        let (batch, ledger) = encode::encode_into(batch, (host, program, marks), &before)?;
        send(transport, "load rules", batch, &ledger)
    };
    let outcome = match put(latest.as_ref()) {
        Err(LinuxError::Refused { .. }) if latest.is_some() => put(None),
        outcome => outcome,
    };
    outcome.map_err(|error| not_ours(transport, error))?;
    let snapshot = as_meant(transport, program, marks)?;
    if let Some(callers) = callers.filter(|it| it.list.len() > AT_ONCE) {
        // The rules are in force, whatever becomes of this.
        let _ = record::remind(transport, &callers);
    }
    Ok(snapshot)
}

/// Reads our table back, and holds it against what was meant.
fn as_meant(
    transport: &mut dyn Transport,
    program: &RuleProgram,
    marks: &Marks,
) -> Result<Snapshot, LinuxError> {
    let snapshot = read_table(transport, false)
        .map_err(|error| LinuxError::ReadBack(error.to_string()))?
        .ok_or_else(|| LinuxError::ReadBack("the table is not there".into()))?;
    let drifts = compare(program, &snapshot.program);
    let raised = program.logging == snapshot.program.logging;
    if drifts.is_empty() && raised && snapshot.marks == *marks {
        Ok(snapshot)
    } else if !raised {
        let found = snapshot.program.logging;
        Err(LinuxError::ReadBack(format!("reports: {found:?}, not {:?}", program.logging)))
    } else if drifts.is_empty() {
        Err(LinuxError::ReadBack(format!("programs: {:?}, not {marks:?}", snapshot.marks)))
    } else {
        Err(LinuxError::ReadBack(format!("{} differences, first: {}", drifts.len(), drifts[0])))
    }
}

/// Who came, as far as the kernel remembers; `None` if it is to remember nothing.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn callers(transport: &mut dyn Transport) -> Result<Option<Callers>, LinuxError> {
    record::read(transport)
}

/// Has the kernel remember again who came before it was started.
///
/// # Errors
/// [`LinuxError`] if the kernel refuses; it then remembers what it did.
pub fn remind(transport: &mut dyn Transport, before: &Callers) -> Result<(), LinuxError> {
    record::remind(transport, before)
}

/// Has the kernel forget who came.
///
/// # Errors
/// [`LinuxError`] if the kernel refuses.
pub fn forget(transport: &mut dyn Transport) -> Result<(), LinuxError> {
    record::forget(transport, now())
}

/// What time it is, in seconds since the Unix epoch.
pub(crate) fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |it| it.as_secs())
}

/// How many bytes the kernel is told of `program`.
///
/// # Errors
/// As for [`encode`].
pub fn size(program: &RuleProgram, host: &str) -> Result<usize, LinuxError> {
    Ok(encode(program, host, 0)?.0.finish()?.bytes.len())
}

/// The generation of the kernel's rules, ours and others': a number that every change of any of
/// them raises.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us ask.
pub fn generation(transport: &mut dyn Transport) -> Result<u32, LinuxError> {
    const DOING: &str = "ask how often rules have changed";
    let sequence = transport.next_sequence();
    let system = |source| LinuxError::system(DOING, source);
    transport.send(&ask_generation(sequence)?).map_err(system)?;
    loop {
        let datagram = transport.receive().map_err(system)?;
        for message in split(&datagram)?.iter().filter(|it| it.sequence == sequence) {
            if message.kind == message_kind::NEW_GENERATION {
                return Ok(decode_generation(message.body)?);
            }
            if message.kind == ERROR {
                let answer = message.answer()?;
                return Err(LinuxError::refused(DOING, answer.errno, answer.remark.as_deref()));
            }
        }
    }
}

/// Takes our table out of the kernel; gives `false` if there was none.
///
/// # Errors
/// [`LinuxError`] if the kernel refuses.
pub fn release(transport: &mut dyn Transport) -> Result<bool, LinuxError> {
    let held = read(transport)?.is_some();
    let mut batch = Batch::begin(transport.next_sequence());
    if held {
        batch.delete_table(TABLE);
    }
    let quiet = quiet::is_there(transport)?;
    if quiet {
        batch.delete_table(quiet::TABLE);
    }
    if held || quiet {
        send(transport, "remove our rules", batch, &Ledger::default())
            .map_err(|error| not_ours(transport, error))?;
    }
    Ok(held)
}

/// Why the kernel does not permit what this process may do: a table that belongs to another process is
/// for that one alone, whoever else asks.
fn not_ours(transport: &mut dyn Transport, error: LinuxError) -> LinuxError {
    let LinuxError::NotPermitted { doing } = &error else { return error };
    let tables = tables(transport).unwrap_or_default();
    let owned = tables.iter().any(|it| it.name == TABLE && it.flags & FLAG_OWNED != 0);
    if !owned {
        return error;
    }
    LinuxError::Refused {
        doing: doing.clone(),
        reason: format!(
            "another process has made a table named {TABLE} that is its own, and that vanishes when it \
             ends; end it, and try again"
        ).into(),
    }
}

/// `NFT_TABLE_F_OWNER`: only the socket that made it may change the table.
const FLAG_OWNED: u32 = 2;
