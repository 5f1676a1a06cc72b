//! Rule programs in the kernel.
//!
//! All that is ours lives in one table of the family `inet`. Its rules are replaced, or
//! [`change`]d where they differ, in one batch, which the kernel applies entirely or not at all; another takes out what
//! no packet needs any more. Tables of others are never changed.

mod at_once;
mod by_chain;
mod decode;
mod difference;
mod encode;
mod generation;
mod keys;
mod ledger;
mod left_over;
mod listed;
mod load;
mod marks;
mod moment;
mod names;
mod others;
mod owners;
mod pace;
mod quiet;
mod read;
mod read_back;
mod record;
mod reopen;
mod reported;
mod shut;
mod tally;
mod values;

pub use difference::change;
pub use encode::encode;
pub use generation::generation;
pub use ledger::Ledger;
pub(crate) use ledger::send;
pub(crate) use listed::rules_of;
pub use load::{enforce, enforce_at, enforce_marked, go_to};
pub use marks::{DEFAULT_MASK, Marks, Meant};
pub(crate) use marks::{too_many_beside, too_many_programs};
pub use names::{LOG_GROUP, TABLE};
pub(crate) use names::{WATCH_TABLES, interface_key, named, state_bit};
pub(crate) use others::is_of_ours;
pub use others::{Denies, OtherChain, OtherTable, Sees, others};
pub use owners::{Numbered, Whose, is_program};
pub use quiet::{Tuple, keep_quiet};
pub(crate) use read::tables;
pub use read::{Snapshot, glance, read, taken};
pub(crate) use record::Decided;
pub use record::{Began, Caller, Callers, MOST as MOST_CALLERS, Wanted, Who};
pub use reported::reported;
pub(crate) use reported::{WholeList, whole_list};
pub use shut::{Door, Shut, door, open, shut};
pub use tally::{Count, Tally};
pub(crate) use values::{Key as KernelKey, before, largest, set_of};

use crate::LinuxError;
use crate::transport::Transport;

use std::time::{SystemTime, UNIX_EPOCH};
use tipstaff_core::program::RuleProgram;
use tipstaff_wire::nf_tables::Batch;

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

/// How much the kernel is told of a program.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Size {
    /// In bytes.
    pub bytes: usize,
    /// How many elements of sets are among it.
    pub elements: usize,
}

/// How much the kernel is told of `program`.
///
/// # Errors
/// As for [`encode`].
pub fn size(program: &RuleProgram, host: &str) -> Result<Size, LinuxError> {
    let told = encode(program, host, 0)?.0.finish()?;
    Ok(Size { bytes: told.bytes.len(), elements: told.elements })
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
