//! Ports that others lead elsewhere, open though no rule speaks of them.

use super::facts::{Machine, Published};
use super::finder::{Finder, FindingKind, Look};
use super::finding::{Finding, Mend};
use crate::plan::Kind;
use crate::policy::{Code, Severity};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::PublishedPastPolicy,
        severity: Severity::Warning,
        meaning: "Rules of others lead a port of this host elsewhere, by address translation, and those who come there \
             are let through, though no rule of the policy speaks of it: a default does that. Rules for inbound packets never \
             see them. A rule about where they are led closes it, or says that it is meant.",
    }],
    looks: &[Look::Machine(findings)],
};

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    let published = &machine.facts.published;
    published.iter().filter(|it| it.open && it.decided_by.kind != Kind::Rule).map(finding).collect()
}

fn finding(published: &Published) -> Finding {
    let Published { protocol, ports: (first, last), by, to, direction, decided_by, .. } = published;
    let protocol = protocol.as_str();
    let ports = if first == last { first.to_string() } else { format!("{first}-{last}") };
    let message = format!(
        "{ports}/{protocol} is led to {to} by table {by}, and open there by {decided_by}: no rule speaks of it"
    );
    Finding::of_host(Code::PublishedPastPolicy, Severity::Warning, message).mend(Mend::Deny {
        direction: *direction,
        traffic: if first == last { format!("{}/{protocol}", to.port()) } else { "any".to_owned() },
        to: to.ip(),
        published: format!("{ports}/{protocol}"),
    })
}
