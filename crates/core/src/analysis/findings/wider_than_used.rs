//! Rules that let anybody reach a listener that only known places use now.

use super::super::question::{Share, ordinary, shares};
use super::facts::Contact;
use super::facts::Machine;
use super::finder::{Finder, FindingKind, Look};
use super::finding::Finding;
use super::finding::Mend;
use crate::plan::Kind;
use crate::policy::{Code, Severity, Verdict};
use crate::rehearsal::sendable;
use crate::space::{AddressSet, Direction, PortProtocol, RangeSet};
use std::net::IpAddr;

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::WiderThanUsed,
        severity: Severity::Note,
        meaning: "The rule lets senders of no named place reach a port, and everybody who is connected to it \
             now is at a named place. That is one moment and no proof, but often the rule can be \
             narrowed to those places with `from`.",
    }],
    looks: &[Look::Machine(findings)],
};

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    let named: AddressSet =
        machine.policy.places.iter().map(|place| place.addresses.clone()).collect();
    let mut ports: Vec<(u16, PortProtocol)> = machine
        .facts
        .listeners
        .iter()
        .filter(|it| it.for_others())
        .map(|it| (it.port, it.protocol))
        .collect();
    ports.dedup();
    ports.into_iter().filter_map(|(port, protocol)| at(machine, &named, port, protocol)).collect()
}

fn at(
    machine: &Machine<'_>,
    named: &AddressSet,
    port: u16,
    protocol: PortProtocol,
) -> Option<Finding> {
    let plan = machine.plan;
    let here = |it: &&Contact| (it.port, it.protocol) == (port, protocol);
    let contacts = machine.facts.contacts.iter().filter(here);
    let peers: Vec<IpAddr> = contacts
        .map(|it| it.peer)
        .filter(|it| !it.is_loopback() && !plan.addresses.contains(it))
        .collect();
    if peers.is_empty() || peers.iter().any(|it| !named.contains(*it)) {
        return None;
    }
    let one = protocol.traffic(RangeSet::single(port));
    let strangers = sendable().difference(named);
    let mut region = ordinary(plan, Direction::Inbound);
    region.traffic = one.clone();
    region.source = region.source.intersection(&strangers);
    let shares = shares(plan, Direction::Inbound, vec![region])?;
    let wide = |it: &&Share<'_>| {
        it.decision.id.kind == Kind::Rule && it.decision.act.verdict() == Verdict::Allow
    };
    let share = shares.iter().find(wide)?;
    let mut users: Vec<&str> = Vec::new();
    for peer in &peers {
        let at = machine.policy.places.iter().filter(|it| it.addresses.contains(*peer));
        let smallest = at.min_by_key(|it| it.addresses.blocks().len());
        users.extend(smallest.map(|it| it.name.as_str()).filter(|it| !users.contains(it)));
    }
    // A mend names one place; with several, which ones is for the author to say.
    let from = (users.len() == 1).then(|| users[0].to_owned());
    let users = users.join(", ");
    let count = match peers.len() {
        1 => "the only connection now comes".to_owned(),
        2 => "both connections now come".to_owned(),
        count => format!("all {count} connections now come"),
    };
    let message = format!("lets anybody reach {one}; {count} from {users}");
    let finding = Finding::about(Code::WiderThanUsed, Severity::Note, share.decision, message);
    Some(finding.mend(Mend::Change { rule: share.decision.id.clone(), key: "from", value: from }))
}
