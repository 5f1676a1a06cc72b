//! The rules of a table, as the kernel lists them.

use crate::LinuxError;
use crate::transport::{Transport, dump};
use tipstaff_wire::WireError;
use tipstaff_wire::nf_tables::{self as nf, FAMILY_INET, message_kind};

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
    let of = nf::Rule { table: table.into(), chain: chain.into(), ..nf::Rule::default() };
    let request = |sequence| {
        nf::dump(message_kind::GET_RULE, FAMILY_INET, sequence, |out| of.write_place(out))
    };
    let all: Vec<nf::Rule> = dump(transport, doing, request, nf::Rule::decode)?;
    Ok(all.into_iter().filter(|it| it.table == table && it.chain == chain).collect())
}

/// The request for them.
pub(super) fn ask_for_rules(table: &str, sequence: u32) -> Result<Vec<u8>, WireError> {
    let only = nf::Rule { table: table.into(), ..nf::Rule::default() };
    nf::dump(message_kind::GET_RULE, FAMILY_INET, sequence, |out| only.write_table(out))
}
