//! Rule programs in the kernel.
//!
//! All that is ours lives in one table of the family `inet`. It is replaced as a whole in one
//! batch, which the kernel applies entirely or not at all. Tables of others are never changed.

mod decode;
mod encode;
mod keys;
mod marks;
mod others;
mod read;
mod reopen;
mod values;

pub use encode::{LOG_GROUP, encode};
pub(crate) use marks::too_many_programs;
pub use marks::{DEFAULT_MASK, Marks, Numbered};
pub use others::{Denies, OtherChain, OtherTable, others};
use read::read_table;
pub use read::{Count, Snapshot, Tally, read};

use crate::LinuxError;
use crate::error::reason;
use crate::transport::Transport;
use std::collections::BTreeMap;
use std::io;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{RuleProgram, compare};
use tipstaff_wire::netlink::{ERROR, split};
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
/// each case the kernel holds what it held before, except for [`LinuxError::ReadBack`].
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
    send(transport, "load rules", batch, &ledger)?;
    let snapshot = read_table(transport, false)?
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
    if read(transport)?.is_none() {
        return Ok(false);
    }
    let mut batch = Batch::begin(transport.next_sequence());
    batch.delete_table(TABLE);
    send(transport, "remove our rules", batch, &Ledger::default())?;
    Ok(true)
}

/// Sends a batch and waits for the kernel's word on it.
pub(crate) fn send(
    transport: &mut dyn Transport,
    doing: &str,
    batch: Batch,
    ledger: &Ledger,
) -> Result<(), LinuxError> {
    let batch = batch.finish()?;
    let system = |source: io::Error| LinuxError::system(doing, source);
    let size = batch.bytes.len();
    transport.send(&batch.bytes).map_err(|source| match source.raw_os_error() {
        Some(libc::EMSGSIZE) => LinuxError::Refused {
            doing: doing.into(),
            reason: format!(
                "all rules go in at once, and these {size} bytes are more than this user may send \
                 at once; root may, and net.core.wmem_max raises the limit for others"
            ),
        },
        _ => system(source),
    })?;
    loop {
        let datagram = transport.receive().map_err(system)?;
        for message in split(&datagram)?.iter().filter(|message| message.kind == ERROR) {
            let answer = message.answer()?;
            if answer.errno == libc::ERESTART {
                return Err(LinuxError::Changed);
            }
            if answer.errno != 0 {
                // Later parts fail too when an earlier one did: the first refusal is the cause.
                let lacks = ledger.by_socket.get(&message.sequence);
                if let (Some(lacks), libc::ENOENT) = (lacks, answer.errno) {
                    let what = vec![(*lacks).to_owned()];
                    return Err(LinuxError::Lacking { what, permitted: true });
                }
                let blame = ledger.blame(message.sequence);
                return Err(match (blame, answer.errno) {
                    (Some(rule), errno) if errno != libc::EPERM => LinuxError::RuleRefused {
                        rule: rule.clone(),
                        reason: reason(errno, answer.remark.as_deref()),
                    },
                    (_, errno) => LinuxError::refused(doing, errno, answer.remark.as_deref()),
                });
            }
            if message.sequence == batch.last {
                return Ok(());
            }
        }
    }
}
