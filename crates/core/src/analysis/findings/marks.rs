//! Uses of sockets' marks by others that get in the way of ours.

use super::facts::Machine;
use super::finder::{Finder, FindingKind, Look};
use super::finding::Finding;
use crate::policy::{Code, Severity};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::MarkClash,
        severity: Severity::Warning,
        meaning: "Rules know programs by some bits of sockets' marks. Something else on this machine \
             uses marks in a way that reads or overwrites those bits: give `program-marks` of the \
             host's section bits that nobody else uses.",
    }],
    looks: &[Look::Machine(findings)],
};

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    if !machine.plan.decisions().any(|it| it.1.names_owners()) {
        return Vec::new();
    }
    let mask = machine.plan.program_marks;
    let clash = |message| Finding::of_host(Code::MarkClash, Severity::Warning, message);
    let mut found = Vec::new();
    for rule in machine.facts.routing.iter().filter(|it| it.mask & mask != 0) {
        found.push(clash(format!(
            "routing looks at marks {:#010x}/{:#010x} ({}, priority {}), and rules know programs by \
             {mask:#010x}",
            rule.mark,
            rule.mask,
            if rule.v6 { "IPv6" } else { "IPv4" },
            rule.priority
        )));
    }
    if machine.facts.marked_by_packets {
        found.push(clash(
            "net.ipv4.tcp_fwmark_accept is on: accepted connections get their mark from a packet, \
             not from the listener"
                .into(),
        ));
    }
    found
}
