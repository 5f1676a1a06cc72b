//! The session that asks, if it could not be opened again.

use super::super::reopening::{Obstacle, Part, obstacle};
use super::facts::Machine;
use super::finder::{Finder, FindingKind, Look};
use super::finding::Finding;
use super::finding::Mend;
use crate::policy::{Code, Severity};
use crate::space::AddressSet;

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::SessionCut,
        severity: Severity::Error,
        meaning: "The session from which you ask could not be opened again under this policy. Established \
             connections live on, but the next login would fail.",
    }],
    looks: &[Look::Machine(findings)],
};

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    cut(machine).into_iter().collect()
}

fn cut(machine: &Machine<'_>) -> Option<Finding> {
    let session = machine.facts.session.as_ref()?;
    let Obstacle { part, packet, decision } = obstacle(machine.plan, session)?;
    let (client, port) = (session.client.0, session.server.1);
    let why = match part {
        Part::Opening | Part::Onward => format!("decides {}", decision.act.verdict().as_str()),
        Part::Answers => "keeps its answers in".into(),
        Part::Neighbours => "keeps IPv6 from finding the neighbour on the link".into(),
        Part::Rate(rate) => format!("allows only {rate}"),
    };
    let message = format!(
        "this session, from {client} to {port}/tcp, could not be opened again: `{}` {why}",
        decision.id,
    );
    let finding = Finding::of_host(Code::SessionCut, Severity::Error, message)
        .others([decision.id.clone()])
        .witness(Some(packet));
    Some(finding.mend(Mend::Allow {
        name: Some("shell"),
        traffic: vec![format!("{port}/tcp")],
        from: Some(AddressSet::single(client).to_string()),
    }))
}
