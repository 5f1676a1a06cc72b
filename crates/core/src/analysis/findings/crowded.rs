//! Rates that keep their senders apart, and have had no room for some.

use super::facts::Machine;
use super::finder::{Finder, FindingKind, Look};
use super::finding::Finding;
use crate::policy::{Code, Severity};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::RateCrowded,
        severity: Severity::Warning,
        meaning: "The rule keeps a rate for each source, and more sources came at a time than it can tell \
             apart (65,536; in IPv6 networks of 64 bits). Further ones share 16,384 places, by a hash \
             that nobody outside knows: each place keeps the rate, so nobody gets more, and some may \
             get less. So many sources are an attack with forged senders, or a rule for too many. Put \
             a rule for the places that matter above it: those then need no room.",
    }],
    looks: &[Look::Machine(findings)],
};

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    let crowded = machine.facts.crowded.iter().filter(|it| it.1 > 0);
    let found = crowded.filter_map(|(rule, packets)| {
        let met = match packets {
            1 => "a packet came from a sender".to_owned(),
            packets => format!("{packets} packets came from senders"),
        };
        let message = format!(
            "{met} for which there was no room: a rate per source tells 65,536 senders apart at a \
             time, and further ones share 16,384 places"
        );
        let decision = machine.plan.find(rule)?;
        Some(Finding::about(Code::RateCrowded, Severity::Warning, decision, message))
    });
    found.collect()
}
