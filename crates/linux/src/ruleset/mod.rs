//! Rule programs in the kernel.
//!
//! All that is ours lives in one table of the family `inet`. It is replaced as a whole in one
//! batch, which the kernel applies entirely or not at all. Tables of others are never changed.

mod decode;
mod encode;
mod keys;
mod marks;
mod others;
mod quiet;
mod read;
mod reopen;
mod values;

pub use encode::{LOG_GROUP, encode};
pub(crate) use marks::too_many_programs;
pub use marks::{DEFAULT_MASK, Marks, Numbered};
pub use others::{Denies, OtherChain, OtherTable, others};
pub use quiet::{QUIET, QUIET_TABLE, Tuple, keep_quiet};
use read::read_table;
pub use read::{Count, Snapshot, Tally, read};

use crate::LinuxError;
use crate::batch::deliver;
use crate::error::reason;
use crate::transport::Transport;
use std::collections::BTreeMap;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{RuleProgram, compare};
use tipstaff_wire::netlink::{Answer, ERROR, split};
use tipstaff_wire::nf_tables::{Batch, ask_generation, decode_generation, message_kind};

/// The name of our table.
pub const TABLE: &str = "tipstaff";

/// Which message of a batch serves which decision.
#[derive(Debug, Default)]
pub struct Ledger {
    /// The last message before those that serve a decision.
    preamble: u32,
    /// For each rule or map, in order, the number of its last message; no decision for what
    /// serves several.
    entries: Vec<(u32, Option<RuleId>)>,
    /// The messages of rules that ask for sockets, with what it takes.
    by_socket: BTreeMap<u32, &'static str>,
}

/// Not every kernel has been built with these.
const BY_MARK: &str = "tests of sockets in the packet filter (CONFIG_NFT_SOCKET)";
const TO_LISTENER: &str = "leading packets to sockets in the packet filter (CONFIG_NFT_TPROXY), and \
                           tests of sockets (CONFIG_NFT_SOCKET)";

impl Ledger {
    fn note(&mut self, message: u32, id: Option<&RuleId>) {
        self.entries.push((message, id.cloned()));
    }

    /// The decision that the message of that number serves. A set's messages come before the
    /// rule that uses it.
    fn blame(&self, message: u32) -> Option<&RuleId> {
        let at = self.entries.partition_point(|entry| entry.0 < message);
        self.entries.get(at).filter(|_| message > self.preamble)?.1.as_ref()
    }
}

/// Puts `program` into the kernel in place of whatever our table held, and reads it back; what it
/// counts begins then, and is not read.
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
    load(transport, host, program, marks, None, &[])
}

/// Like [`enforce`], but only if nobody has changed any of the kernel's rules since they had this
/// [`generation`]; and decisions go on counting from what is `carried` over. Programs are known by
/// the numbers of `marks`.
///
/// # Errors
/// As for [`enforce`]; [`LinuxError::Changed`] if somebody has.
pub fn enforce_at(
    transport: &mut dyn Transport,
    host: &str,
    program: &RuleProgram,
    marks: &Marks,
    generation: u32,
    carried: &[Tally],
) -> Result<Snapshot, LinuxError> {
    load(transport, host, program, marks, Some(generation), carried)
}

fn load(
    transport: &mut dyn Transport,
    host: &str,
    program: &RuleProgram,
    marks: &Marks,
    generation: Option<u32>,
    carried: &[Tally],
) -> Result<Snapshot, LinuxError> {
    let batch = Batch::begin_at(transport.next_sequence(), generation);
    let (batch, ledger) = encode::encode_into(batch, program, host, marks, carried)?;
    send(transport, "load rules", batch, &ledger).map_err(|error| not_ours(transport, error))?;
    let snapshot = read_table(transport, false)
        .map_err(|error| LinuxError::ReadBack(error.to_string()))?
        .ok_or_else(|| LinuxError::ReadBack("the table is not there".into()))?;
    let drifts = compare(program, &snapshot.program);
    if drifts.is_empty() && snapshot.marks == *marks {
        Ok(snapshot)
    } else if drifts.is_empty() {
        Err(LinuxError::ReadBack(format!("programs: {:?}, not {marks:?}", snapshot.marks)))
    } else {
        Err(LinuxError::ReadBack(format!("{} differences, first: {:?}", drifts.len(), drifts[0])))
    }
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
    let tables = read::tables(transport).unwrap_or_default();
    let owned = tables.iter().any(|it| it.name == TABLE && it.flags & FLAG_OWNED != 0);
    if !owned {
        return error;
    }
    LinuxError::Refused {
        doing: doing.clone(),
        reason: format!(
            "another process has made a table named {TABLE} that is its own, and that vanishes when it \
             ends; end it, and try again"
        ),
    }
}

/// `NFT_TABLE_F_OWNER`: only the socket that made it may change the table.
const FLAG_OWNED: u32 = 2;

/// Sends a batch and waits for the kernel's word on it.
pub(crate) fn send(
    transport: &mut dyn Transport,
    doing: &str,
    batch: Batch,
    ledger: &Ledger,
) -> Result<(), LinuxError> {
    let refusals = deliver(transport, doing, &batch.finish()?)?;
    // Later parts fail too when an earlier one did: the first refusal is the cause.
    refusals
        .first()
        .map_or(Ok(()), |(message, answer)| Err(refusal(doing, *message, answer, ledger)))
}

/// What the kernel's refusal of a message means.
fn refusal(doing: &str, sequence: u32, answer: &Answer, ledger: &Ledger) -> LinuxError {
    if answer.errno == libc::ERESTART {
        return LinuxError::Changed;
    }
    if let (Some(lacks), libc::ENOENT) = (ledger.by_socket.get(&sequence), answer.errno) {
        return LinuxError::Lacking { what: vec![(*lacks).to_owned()], permitted: true };
    }
    match (ledger.blame(sequence), answer.errno) {
        (Some(rule), errno) if errno != libc::EPERM => LinuxError::RuleRefused {
            rule: rule.clone(),
            reason: reason(errno, answer.remark.as_deref()),
        },
        (_, errno) => LinuxError::refused(doing, errno, answer.remark.as_deref()),
    }
}
