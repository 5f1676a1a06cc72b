//! Rules, chains, sets and what is in them, as the kernel lists them.

use crate::LinuxError;
use crate::transport::{Transport, dump};
use tipstaff_wire::WireError;
use tipstaff_wire::nf_tables::{self as nf, Element, FAMILY_INET, decode_elements, message_kind};

/// Lists the rules of a table.
pub(crate) fn rules_of(
    transport: &mut dyn Transport,
    doing: &str,
    table: &str,
) -> Result<Vec<nf::Rule>, LinuxError> {
    let all: Vec<nf::Rule> =
        dump(transport, doing, |sequence| ask_for_rules(table, sequence), nf::Rule::decode)?;
    Ok(all.into_iter().filter(|it| it.table == table).collect())
}

/// Lists the rules of one of its chains; none if it is not there.
pub(super) fn rules_of_chain(
    transport: &mut dyn Transport,
    doing: &str,
    table: &str,
    chain: &str,
) -> Result<Vec<nf::Rule>, LinuxError> {
    let request = |sequence| ask_for_rules_of_chain(table, chain, sequence);
    let all: Vec<nf::Rule> = dump(transport, doing, request, nf::Rule::decode)?;
    Ok(all.into_iter().filter(|it| it.table == table && it.chain == chain).collect())
}

/// The request for those of one chain.
pub(super) fn ask_for_rules_of_chain(
    table: &str,
    chain: &str,
    sequence: u32,
) -> Result<Vec<u8>, WireError> {
    let of = nf::Rule { table: table.into(), chain: chain.into(), ..nf::Rule::default() };
    nf::dump(message_kind::GET_RULE, FAMILY_INET, sequence, |out| of.write_place(out))
}

/// The request for those of a table.
pub(super) fn ask_for_rules(table: &str, sequence: u32) -> Result<Vec<u8>, WireError> {
    let only = nf::Rule { table: table.into(), ..nf::Rule::default() };
    nf::dump(message_kind::GET_RULE, FAMILY_INET, sequence, |out| only.write_table(out))
}

/// Lists the chains of the family in which ours are.
pub(super) fn chains(
    transport: &mut dyn Transport,
    doing: &str,
) -> Result<Vec<nf::Chain>, LinuxError> {
    dump(transport, doing, |sequence| all(message_kind::GET_CHAIN, sequence), nf::Chain::decode)
}

/// Lists its sets.
pub(super) fn sets(transport: &mut dyn Transport, doing: &str) -> Result<Vec<nf::Set>, LinuxError> {
    dump(transport, doing, |sequence| all(message_kind::GET_SET, sequence), nf::Set::decode)
}

fn all(kind: u16, sequence: u32) -> Result<Vec<u8>, WireError> {
    nf::dump(kind, FAMILY_INET, sequence, |_| {})
}

/// Lists what is in a set.
pub(super) fn elements(
    transport: &mut dyn Transport,
    doing: &str,
    set: &nf::Set,
) -> Result<Vec<Element>, LinuxError> {
    let request = |sequence| ask_for_elements(set, sequence);
    let parts = dump(transport, doing, request, |body| decode_elements(body).map(|it| it.1))?;
    Ok(parts.into_iter().flatten().collect())
}

/// The request for that.
pub(super) fn ask_for_elements(set: &nf::Set, sequence: u32) -> Result<Vec<u8>, WireError> {
    nf::dump(message_kind::GET_ELEMENTS, FAMILY_INET, sequence, |out| set.write_request(out))
}
