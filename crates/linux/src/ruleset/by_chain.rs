//! Reading the rules of a table of many chains.

use super::generation::generation;
use super::listed::{ask_for_rules, ask_for_rules_of_chain};
use super::names::TABLE;
use crate::LinuxError;
use crate::transport::{DUMP_TRIES, Transport, keeps_changing};
use tipstaff_wire::WireError;
use tipstaff_wire::nf_tables as nf;

/// From so many chains on each is asked for its rules: for each part of its answer the kernel goes through all rules of
/// the table from the first, so that the whole costs the square of them (`__nf_tables_dump_rules` in
/// `net/netfilter/nf_tables_api.c`).
const MANY_CHAINS: usize = 256;

/// Whether there are so many.
pub(super) fn many(chains: &[nf::Chain]) -> bool {
    chains.iter().filter(|it| it.table == TABLE).count() >= MANY_CHAINS
}

/// A request, but for its number.
pub(super) type Request<'r> = Box<dyn Fn(u32) -> Result<Vec<u8>, WireError> + 'r>;

/// The requests for all our rules, in the order of the chains.
pub(super) fn requests(chains: &[nf::Chain]) -> Vec<Request<'_>> {
    if !many(chains) {
        return vec![Box::new(|sequence| ask_for_rules(TABLE, sequence))];
    }
    let request = |chain| -> Request<'_> {
        Box::new(move |sequence| ask_for_rules_of_chain(TABLE, chain, sequence))
    };
    let ours = chains.iter().filter(|it| it.table == TABLE);
    ours.map(|it| request(it.name.as_str())).collect()
}

/// Reads by several requests what must be of one moment: again if anything was changed meanwhile.
pub(super) fn at_one_moment<T>(
    transport: &mut dyn Transport,
    doing: &str,
    read: impl Fn(&mut dyn Transport) -> Result<T, LinuxError>,
) -> Result<T, LinuxError> {
    for _ in 0..DUMP_TRIES {
        let before = generation(transport)?;
        let found = read(transport)?;
        if generation(transport)? == before {
            return Ok(found);
        }
    }
    Err(keeps_changing(doing))
}
