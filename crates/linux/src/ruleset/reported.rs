//! What is needed to understand the reports of decisions.

use super::listed::rules_of;
use super::names::TABLE;
use super::record::{self, Decided, Duties};
use crate::LinuxError;
use crate::transport::Transport;
use foldhash::HashMap;

const READING: &str = "read what is reported";

/// The decisions of the rules in force, by the numbers that reports have for them.
#[derive(Default)]
pub(crate) struct WholeList {
    /// What reports call the list.
    pub name: String,
    pub decisions: HashMap<u32, Decided>,
}

/// Reads them; an empty list if nothing is reported.
pub(crate) fn whole_list(transport: &mut dyn Transport) -> Result<WholeList, LinuxError> {
    let Some(elements) = record::numbers(transport)? else { return Ok(WholeList::default()) };
    let Duties { list: name, .. } = Duties::read(&elements, &[]);
    Ok(WholeList { name, decisions: record::decisions(&elements) })
}

/// How many decisions were to be reported since the rules were put in force, and how many of them were; `None` if none
/// are.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn reported(transport: &mut dyn Transport) -> Result<Option<[u64; 2]>, LinuxError> {
    let rules = rules_of(transport, READING, TABLE)?;
    let of_record = rules.iter().filter(|it| it.chain.starts_with(record::PREFIX));
    let counts = of_record.filter_map(|it| record::counted(&it.expressions));
    Ok(counts.reduce(|[a, b], [c, d]| [a + c, b + d]))
}
