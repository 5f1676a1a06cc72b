//! A plan to a rule program: each decision becomes one rule for each combination of IP version
//! and protocol group that it needs, in order.

use super::model::{Action, BaseChain, Chain, ProgramRule, RuleProgram, Test};
use crate::plan::{Act, Condition, Decision, HostPlan, InterfaceTest};
use crate::policy::Verdict;
use crate::space::{Family, ICMP, ICMPV6, RangeSet, TCP, UDP};

/// Lowers a plan.
#[must_use]
pub fn lower(plan: &HostPlan) -> RuleProgram {
    let mut limiters = Vec::new();
    let mut chains = Vec::new();
    for chain in &plan.chains {
        let mut rules = Vec::new();
        for decision in chain.decisions.iter().filter(|decision| !decision.paused) {
            lower_decision(decision, &mut rules, &mut limiters);
        }
        let last = chain.decisions.last().map(|decision| decision.act.verdict());
        chains.push(Chain {
            name: chain.direction.as_str().into(),
            base: Some(BaseChain {
                direction: chain.direction,
                passes: last == Some(Verdict::Allow),
            }),
            rules,
        });
    }
    chains.append(&mut limiters);
    RuleProgram { chains }
}

fn lower_decision(decision: &Decision, rules: &mut Vec<ProgramRule>, limiters: &mut Vec<Chain>) {
    let id = &decision.id;
    let rule = |tests, action| ProgramRule { id: id.clone(), tests, action };
    match decision.act {
        Act::Decide(Verdict::Allow) => {
            rules.extend(clauses(decision, false).map(|tests| rule(tests, Action::Allow)));
        }
        Act::Decide(Verdict::Deny) => {
            rules.extend(clauses(decision, false).map(|tests| rule(tests, Action::Deny)));
        }
        Act::Decide(Verdict::Reject) => {
            rules.extend(clauses(decision, true).map(|tests| {
                let only_tcp = tests.contains(&Test::Protocol(RangeSet::single(TCP)));
                rule(tests, if only_tcp { Action::Reset } else { Action::Prohibit })
            }));
        }
        // One limiter for all clauses, so that they share the rate. The excess falls through to
        // the denial behind it: whatever happens to the limiter, it cannot let more pass.
        Act::AllowWithin(rate) => {
            let name = format!("limit/{id}");
            rules.extend(
                clauses(decision, false).map(|tests| rule(tests, Action::Jump(name.clone()))),
            );
            let within = |tests| rule(tests, Action::AllowWithin(rate));
            let mut rules: Vec<ProgramRule> = if rate.per_source {
                // Senders are told apart by different bytes in each IP version.
                Family::BOTH.map(|family| within(vec![Test::Family(family)])).into()
            } else {
                vec![within(Vec::new())]
            };
            rules.push(rule(Vec::new(), Action::Deny));
            limiters.push(Chain { name, base: None, rules });
        }
    }
}

/// The lists of tests that together say what the decision takes.
fn clauses(decision: &Decision, tcp_apart: bool) -> impl Iterator<Item = Vec<Test>> {
    decision.conditions.iter().flat_map(move |condition| condition_clauses(condition, tcp_apart))
}

fn condition_clauses(condition: &Condition, tcp_apart: bool) -> Vec<Vec<Test>> {
    let mut common = Vec::new();
    if condition.in_interface != InterfaceTest::Any {
        common.push(Test::InInterface(condition.in_interface.clone()));
    }
    if condition.out_interface != InterfaceTest::Any {
        common.push(Test::OutInterface(condition.out_interface.clone()));
    }
    common.extend(condition.states.map(Test::State));

    let mut clauses = Vec::new();
    for group in groups(condition, tcp_apart) {
        for ends in address_tests(condition, group.family) {
            let mut tests = common.clone();
            // Version, protocol, addresses, then what lies behind the IP header.
            let (family, addresses) = ends;
            tests.extend(family.map(Test::Family));
            tests.extend(group.protocols.clone().map(Test::Protocol));
            tests.extend(addresses);
            tests.extend(group.finer.clone());
            clauses.push(tests);
        }
    }
    clauses
}

/// Traffic that one list of tests can name.
struct Group {
    /// The only IP version it occurs in.
    family: Option<Family>,
    protocols: Option<RangeSet<u8>>,
    finer: Vec<Test>,
}

fn groups(condition: &Condition, tcp_apart: bool) -> Vec<Group> {
    let traffic = &condition.traffic;
    let source_ports = &condition.source_ports;
    let any_source_port = source_ports.is_full();
    let all =
        |protocols: Option<RangeSet<u8>>| Group { family: None, protocols, finer: Vec::new() };
    if traffic.is_any() && any_source_port {
        return if tcp_apart {
            vec![all(Some(RangeSet::single(TCP))), all(None)]
        } else {
            vec![all(None)]
        };
    }
    let with_ports = |numbers: &[u8], ports: &RangeSet<u16>| {
        let mut finer = Vec::new();
        if !any_source_port {
            finer.push(Test::SourcePort(source_ports.clone()));
        }
        if !ports.is_full() {
            finer.push(Test::DestinationPort(ports.clone()));
        }
        let protocols = RangeSet::from_ranges(numbers.iter().map(|&number| (number, number)));
        Group { family: None, protocols: Some(protocols), finer }
    };
    let mut groups = Vec::new();
    if traffic.tcp == traffic.udp && !traffic.tcp.is_empty() && !tcp_apart {
        groups.push(with_ports(&[TCP, UDP], &traffic.tcp));
    } else {
        for (number, ports) in [(TCP, &traffic.tcp), (UDP, &traffic.udp)] {
            if !ports.is_empty() {
                groups.push(with_ports(&[number], ports));
            }
        }
    }
    if !any_source_port {
        return groups;
    }
    for (family, number, types) in
        [(Family::V4, ICMP, &traffic.icmp), (Family::V6, ICMPV6, &traffic.icmpv6)]
    {
        if !types.is_empty() {
            let finer =
                if types.is_full() { Vec::new() } else { vec![Test::IcmpType(types.clone())] };
            let protocols = Some(RangeSet::single(number));
            groups.push(Group { family: Some(family), protocols, finer });
        }
    }
    if !traffic.others.is_empty() {
        groups.push(all(Some(traffic.others.clone())));
    }
    groups
}

/// For each IP version that needs a list of its own: the version, and the tests of its addresses.
fn address_tests(condition: &Condition, only: Option<Family>) -> Vec<(Option<Family>, Vec<Test>)> {
    let (source, destination) = (&condition.source, &condition.destination);
    if only.is_none() && source.is_full() && destination.is_full() {
        return vec![(None, Vec::new())];
    }
    Family::BOTH
        .into_iter()
        .filter(|&family| only.is_none_or(|only| only == family))
        .filter(|&family| source.has(family) && destination.has(family))
        .map(|family| {
            let mut tests = Vec::new();
            if !source.has_all(family) {
                tests.push(Test::Source(source.only(family)));
            }
            if !destination.has_all(family) {
                tests.push(Test::Destination(destination.only(family)));
            }
            (Some(family), tests)
        })
        .collect()
}
