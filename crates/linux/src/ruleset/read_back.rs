//! Whether the kernel holds what was meant.

use super::marks::Marks;
use super::read::{Snapshot, read_table};
use crate::LinuxError;
use crate::transport::Transport;
use tipstaff_core::program::{RuleProgram, compare};

/// Reads our table back, and holds it against what was meant.
pub(super) fn as_meant(
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
