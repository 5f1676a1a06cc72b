//! Our table replaced in one batch.

use super::encode::{self, Before};
use super::ledger::send;
use super::marks::Meant;
use super::read::Snapshot;
use super::read_back::as_meant;
use super::record::{self, Callers};
use super::tally::Tally;
use super::{not_ours, now};
use crate::LinuxError;
use crate::transport::Transport;
use tipstaff_wire::nf_tables::Batch;

/// So many of those who came last are carried over in the moment in which rules are replaced, the others behind it.
const AT_ONCE: usize = 1_024;

/// Puts rules in the place of whatever our table held, in one batch.
pub(super) fn at_once(
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
