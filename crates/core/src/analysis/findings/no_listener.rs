//! Rules that open ports at which nothing listens, or only for this machine itself.

use super::super::question::{ordinary, share_of};
use super::facts::Machine;
use super::facts::{Listener, is_shell};
use super::finder::{Finder, FindingKind, Look};
use super::finding::Finding;
use super::finding::Mend;
use crate::plan::{Decision, Kind};
use crate::policy::{Code, Severity, Verdict};
use crate::space::{Direction, PortProtocol, RangeSet, TrafficSet};

/// What is found here.
pub(crate) const FINDER: Finder = Finder {
    kinds: &[
        FindingKind {
            code: Code::NoListener,
            severity: Severity::Warning,
            meaning: "The rule allows a port at which nothing on this host listens: the service moved, was \
             removed, or is down. An open port with nothing behind it is an invitation to whatever \
             listens there next.",
        },
        FindingKind {
            code: Code::LoopbackListener,
            severity: Severity::Warning,
            meaning: "A rule opens a port to others, but the program behind it listens on the loopback \
             interface only: nobody else can reach it, whatever the rule says.",
        },
    ],
    looks: &[Look::Machine(findings)],
};

/// A rule for more ports than this is not for services that listen.
const MANY_PORTS: u32 = 64;
/// Of a name and another that holds it, the shorter has at least so many letters, or it tells nothing.
const TELLING: usize = 4;

fn findings(machine: &Machine<'_>) -> Vec<Finding> {
    let decisions = &machine.plan.chain(Direction::Inbound).decisions;
    decisions.iter().flat_map(|it| of_rule(machine, it)).collect()
}

/// The traffic to ports that a rule opens and at which nothing listens, and at which something does
/// for this machine only; nothing of a rule that opens too many ports, or none.
fn deaf(
    machine: &Machine<'_>,
    decision: &Decision,
) -> Option<(TrafficSet, TrafficSet, TrafficSet)> {
    let plan = machine.plan;
    let region = ordinary(plan, Direction::Inbound);
    let open = share_of(plan, Direction::Inbound, &decision.id, &region)?;
    let open = open.iter().fold(TrafficSet::empty(), |all, piece| all.union(&piece.traffic));
    let count = |set: &RangeSet<u16>| -> u32 {
        set.ranges().iter().map(|it| u32::from(it.1) - u32::from(it.0) + 1).sum()
    };
    let ports = PortProtocol::ALL.map(|it| count(&open.ports[it]));
    if ports.iter().sum::<u32>() > MANY_PORTS {
        return None;
    }
    let (mut idle, mut local) = (TrafficSet::empty(), TrafficSet::empty());
    let mut with_ports = TrafficSet::empty();
    for protocol in PortProtocol::ALL {
        let set = &open.ports[protocol];
        with_ports = with_ports.union(&protocol.traffic(set.clone()));
        if machine.facts.unlisted.contains(&protocol) {
            continue;
        }
        let led = machine.led(protocol);
        for port in set.ranges().iter().flat_map(|&(first, last)| first..=last) {
            let one = protocol.traffic(RangeSet::single(port));
            let mut there = machine.facts.listeners.iter().filter(|it| it.hears(&one)).peekable();
            if led.contains(port) {
                // That nothing listens is not what is wrong with it.
            } else if there.peek().is_none() {
                idle = idle.union(&one);
            } else if !there.any(Listener::for_others) {
                local = local.union(&one);
            }
        }
    }
    Some((idle, local, with_ports))
}

fn of_rule(machine: &Machine<'_>, decision: &Decision) -> Vec<Finding> {
    let allows = decision.act.verdict() == Verdict::Allow;
    if decision.id.kind != Kind::Rule || decision.idle.is_some() || !allows {
        return Vec::new();
    }
    let Some((idle, local, open)) = deaf(machine, decision) else { return Vec::new() };
    let mut found = Vec::new();
    let name = &decision.id;
    if !idle.is_empty() {
        let all = idle == open;
        let moved = moved(machine, &name.name).filter(|_| all);
        let to = moved.as_ref().map_or_else(String::new, |(program, port)| {
            format!("; {program} listens at {port}, which no rule mentions")
        });
        let message = format!("allows {idle}, but nothing listens there{to}");
        let mut finding = Finding::about(Code::NoListener, Severity::Warning, decision, message);
        finding.mend = match moved {
            Some((_, port)) => {
                Some(Mend::Change { rule: name.clone(), key: "allow", value: Some(port) })
            }
            None => all.then(|| Mend::Remove(name.clone())),
        };
        found.push(finding);
    }
    if !local.is_empty() {
        let message = format!(
            "allows {local} to others, but what listens there does so on the loopback interface only"
        );
        found.push(Finding::about(Code::LoopbackListener, Severity::Warning, decision, message));
    }
    found
}

/// Where a rule's program listens instead, and which program that is: one that goes by the rule's name,
/// at a single port that no rule mentions.
fn moved(machine: &Machine<'_>, rule: &str) -> Option<(String, String)> {
    let decisions = &machine.plan.chain(Direction::Inbound).decisions;
    let its = |program: &str| {
        let (short, long) =
            if program.len() < rule.len() { (program, rule) } else { (rule, program) };
        short.len() >= TELLING && long.contains(short) || rule == "shell" && is_shell(program)
    };
    let listeners = machine.facts.listeners.iter();
    let mut found: Vec<(String, String)> = listeners
        .filter(|it| it.for_others() && !it.is_mentioned(decisions))
        .filter_map(|it| {
            Some((it.program_name()?.to_owned(), format!("{}/{}", it.port, it.protocol)))
        })
        .filter(|(program, _)| its(program))
        .collect();
    found.sort();
    found.dedup();
    if found.len() == 1 { found.pop() } else { None }
}
