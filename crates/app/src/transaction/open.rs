//! The docket, for whoever is about to change what is enforced.

use super::settle::settle;
use crate::Failure;
use crate::store::{Docket, Home, pending};
use tipstaff_linux::Machine;

/// Opens the docket, settles what an earlier command left open, and refuses while a change waits to
/// be confirmed.
pub(super) fn opened(machine: &dyn Machine, home: &Home) -> Result<Docket, Failure> {
    let mut docket = match Docket::open(home) {
        Ok(docket) => docket,
        Err(failure) => {
            // Who may not even look at the kernel's rules learns that first: it is the reason.
            machine.rules()?;
            return Err(failure);
        }
    };
    settle(machine, home, &mut docket)?;
    docket.whole()?;
    match pending(home) {
        Ok(None) => Ok(docket),
        Ok(Some(pending)) => Err(Failure::stopped(
            format!("entry {} waits to be confirmed", pending.id),
            vec![
                "keep it with `tipstaff confirm`, or go back with `tipstaff revert`".into(),
                "nothing was changed".into(),
            ],
        )),
        Err(why) => Err(Failure::stopped(
            format!("a change may wait to be confirmed, and its note cannot be read: {why}"),
            vec!["`tipstaff revert` goes back".into(), "nothing was changed".into()],
        )),
    }
}
