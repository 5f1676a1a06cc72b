//! Rules that let anybody reach a listener that only known places use now.

use super::super::narrowing::{Narrowness, lasting, narrowed};
use super::super::question::{Share, ordinary, share_of, shares};
use super::facts::{Contact, Machine, Use};
use super::finder::{Finder, FindingKind, Look};
use super::finding::{Finding, Mend, Subject};
use crate::plan::Kind;
use crate::policy::{Code, Severity, Verdict};
use crate::rehearsal::sendable;
use crate::space::{AddressSet, Direction, PortProtocol, RangeSet, TrafficSet};
use std::net::IpAddr;

/// So many places and networks at most are few.
const FEW: usize = 8;

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[FindingKind {
        code: Code::WiderThanUsed,
        severity: Severity::Note,
        meaning: "The rule lets senders of no named place reach a port. With `record = \"all\"` the kernel \
             remembers whom it admitted, and for at least a day these few were all; without that, \
             everybody who is connected now is at a named place, which is one moment and no proof. \
             Often the rule can be narrowed: `rule tighten` proposes how.",
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
    let mut found: Vec<Finding> =
        machine.facts.uses.iter().filter_map(|it| remembered(machine, &named, it)).collect();
    let now = ports.into_iter().filter_map(|(port, protocol)| at(machine, &named, port, protocol));
    // What is remembered for long is better than one moment.
    let better = |it: &Finding| {
        machine
            .facts
            .uses
            .iter()
            .any(|used| used.is_telling() && it.subject == Subject::Rule(used.rule.clone()))
    };
    found.extend(now.filter(|it| !better(it)));
    found
}

/// A rule that lets strangers in, and that few have used.
fn remembered(machine: &Machine<'_>, named: &AddressSet, used: &Use) -> Option<Finding> {
    let plan = machine.plan;
    if !used.is_telling() || used.by.is_empty() {
        return None;
    }
    let (direction, decision) = plan.decisions().find(|it| it.1.id == used.rule)?;
    if direction == Direction::Outbound {
        return None;
    }
    let mut region = ordinary(plan, direction);
    region.source = region.source.intersection(&sendable().difference(named));
    let open = share_of(plan, direction, &decision.id, &region)?;
    if open.is_empty() {
        return None;
    }
    let open = open.iter().fold(TrafficSet::empty(), |all, it| all.union(&it.traffic));
    let allowed = decision.conditions.iter().map(|it| it.source.clone()).collect();
    let few = narrowed(&used.by, &allowed, &machine.policy.places, Narrowness::Networks);
    if few.terms.len() > FEW {
        return None;
    }
    let only = match few.terms.split_last() {
        Some((last, [])) => last.clone(),
        Some((last, others)) => format!("{} and {last}", others.join(", ")),
        None => return None,
    };
    let time = lasting(used.seconds);
    let message = format!("lets anybody reach {open}; in the last {time} only {only} did");
    let finding = Finding::about(Code::WiderThanUsed, Severity::Note, decision, message);
    Some(finding.mend(Mend::Tighten(used.rule.clone())))
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
