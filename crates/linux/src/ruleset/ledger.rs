//! Which message of a batch serves which decision, and the kernel's word on them.

use crate::LinuxError;
use crate::Reason;
use crate::batch::deliver;
use crate::transport::Transport;
use std::collections::BTreeMap;
use tipstaff_core::plan::RuleId;
use tipstaff_wire::netlink::Answer;
use tipstaff_wire::nf_tables::Batch;

/// Which message of a batch serves which decision.
#[derive(Debug, Default)]
pub struct Ledger {
    /// The last message before those that serve a decision.
    pub(super) preamble: u32,
    /// For each rule or map, in order, the number of its last message; no decision for what
    /// serves several.
    pub(super) entries: Vec<(u32, Option<RuleId>)>,
    /// The messages of rules that ask for what not every kernel has, with what that is.
    pub(super) lacking: BTreeMap<u32, &'static str>,
}

impl Ledger {
    pub(super) fn note(&mut self, message: u32, id: Option<&RuleId>) {
        self.entries.push((message, id.cloned()));
    }

    /// The decision that the message of that number serves. A set's messages come before the
    /// rule that uses it.
    fn blame(&self, message: u32) -> Option<&RuleId> {
        let at = self.entries.partition_point(|entry| entry.0 < message);
        self.entries.get(at).filter(|_| message > self.preamble)?.1.as_ref()
    }
}

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
    if let (Some(lacks), libc::ENOENT) = (ledger.lacking.get(&sequence), answer.errno) {
        return LinuxError::Lacking { what: vec![(*lacks).to_owned()], permitted: true };
    }
    match (ledger.blame(sequence), answer.errno) {
        (Some(rule), errno) if errno != libc::EPERM => LinuxError::RuleRefused {
            rule: rule.clone(),
            reason: Reason::numbered(errno, answer.remark.as_deref()),
        },
        (_, errno) => LinuxError::refused(doing, errno, answer.remark.as_deref()),
    }
}
