//! A policy and a host's name to that host's plan.

use super::baseline::baseline;
use super::condition::{Condition, InterfaceTest};
use super::model::{Act, Chain, Decision, HostPlan, Idle, RuleId, Written};
use super::served::{Served, is_replies};
use crate::hands::{Hands, OneByOne, each};
use crate::policy::{Host, Policy, Rule, Time, nearest};
use crate::space::{AddressSet, ByProtocol, Direction, RangeSet, RelationSet, TrafficSet};
use std::fmt;

/// The policy has no host of that name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnknownHost {
    /// The name asked for.
    pub name: String,
    /// The name that was probably meant.
    pub near: Option<String>,
    /// The names there are.
    pub known: Vec<String>,
    /// The sections that say they are for it, if they are several.
    pub several: Vec<String>,
}

impl fmt::Display for UnknownHost {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        if !self.several.is_empty() {
            let name = self.name.escape_debug();
            return write!(out, "`{name}` fits the names of several: {}", self.several.join(", "));
        }
        write!(out, "the policy has no host `{}`", self.name.escape_debug())?;
        match &self.near {
            Some(near) => write!(out, "; did you mean `{near}`?"),
            None => write!(out, "; it has: {}", self.known.join(", ")),
        }
    }
}

impl std::error::Error for UnknownHost {}

/// Works out what `policy` means for the host of that name at the moment `now`: rules that have
/// ended are idle.
///
/// # Errors
/// [`UnknownHost`] if the policy does not have it.
pub fn resolve(policy: &Policy, host: &str, now: Time) -> Result<HostPlan, UnknownHost> {
    resolve_by(&OneByOne, policy, host, now)
}

/// Likewise, with so many hands.
///
/// # Errors
/// As for [`resolve`].
pub fn resolve_by(
    hands: &impl Hands,
    policy: &Policy,
    host: &str,
    now: Time,
) -> Result<HostPlan, UnknownHost> {
    let fitting = policy.host_for(host);
    let [section] = fitting[..] else {
        let known: Vec<String> = policy.hosts.iter().map(|host| host.name.clone()).collect();
        return Err(UnknownHost {
            name: host.into(),
            near: nearest(host, known.iter().map(String::as_str)).map(str::to_owned),
            known,
            several: fitting.iter().map(|it| it.name.clone()).collect(),
        });
    };
    Ok(HostPlan {
        host: section.name.clone(),
        addresses: section.addresses.clone(),
        on_link: AddressSet::empty(),
        broadcasts: section.broadcasts.clone(),
        moving: section.addresses.is_empty(),
        interfaces: section.interfaces.clone(),
        program_marks: section.program_marks,
        record: section.record,
        logging: section.logging,
        taken: None,
        chains: Direction::ALL.map(|direction| chain(hands, section, direction, now)),
    })
}

fn chain(hands: &impl Hands, host: &Host, direction: Direction, now: Time) -> Chain {
    let mut decisions = baseline(host, direction, now);
    if let Some(served) = Served::of(host, now) {
        decisions
            .iter_mut()
            .filter(|it| is_replies(it))
            .for_each(|it| served.narrow(it, direction));
    }
    let rules: Vec<&Rule> = host.rules.iter().filter(|it| it.direction == direction).collect();
    decisions.extend(each(hands, &rules, &|rule| decide(rule, now)));
    let default = host.defaults.of(direction);
    decisions.push(Decision {
        id: RuleId::default_for(direction),
        origin: default.origin.clone(),
        conditions: vec![Condition::default()],
        act: Act::Decide(default.verdict),
        log: None,
        idle: None,
        why: None,
        written: Written { traffic: "everything else".into(), ..Written::default() },
    });
    Chain { direction, decisions }
}

fn decide(rule: &Rule, now: Time) -> Decision {
    let ended = rule.until.filter(|until| *until <= now).map(Idle::Ended);
    let paused = rule.paused.then_some(Idle::Paused);
    Decision {
        id: RuleId::rule(&rule.name),
        origin: Some(rule.origin.clone()),
        conditions: conditions(rule),
        act: match rule.rate {
            Some(rate) => Act::AllowWithin(rate),
            None => Act::Decide(rule.verdict),
        },
        log: rule.log,
        idle: paused.or(ended),
        why: rule.why.clone(),
        written: written(rule),
    }
}

/// What an end may be to the host, and its addresses.
type Part = (RelationSet, AddressSet);

/// One condition for each pair of interfaces that the rule names, and of what its ends may be to the host.
fn conditions(rule: &Rule) -> Vec<Condition> {
    let tests = |names: &[String]| -> Vec<InterfaceTest> {
        match names {
            [] => vec![InterfaceTest::Any],
            names => names.iter().map(|it| InterfaceTest::of(it)).collect(),
        }
    };
    let (ins, outs) = (tests(&rule.ingress), tests(&rule.egress));
    let mut conditions = Vec::new();
    let traffic = published(&rule.traffic, rule.published.as_ref());
    let mut push = |ins: &InterfaceTest, outs: &InterfaceTest, from: &Part, to: &Part| {
        // A place that comes from files can hold nobody.
        if from.1.is_empty() || to.1.is_empty() {
            return;
        }
        conditions.extend(traffic.iter().map(|(traffic, published)| Condition {
            in_interface: ins.clone(),
            out_interface: outs.clone(),
            states: None,
            traffic: traffic.clone(),
            published: published.clone(),
            source_ports: rule.source_ports.clone(),
            source: from.1.clone(),
            destination: to.1.clone(),
            source_is: from.0,
            destination_is: to.0,
            programs: rule.programs.clone(),
            users: rule.users.clone(),
            until: rule.until,
        }));
    };
    for in_interface in &ins {
        for out_interface in &outs {
            for from in rule.from.parts() {
                for to in rule.to.parts() {
                    push(in_interface, out_interface, from, to);
                }
            }
        }
    }
    conditions
}

/// What a statement is about, and the ports that were asked for where it was led: for each protocol its own.
pub(crate) fn published(
    traffic: &TrafficSet,
    published: Option<&ByProtocol<RangeSet<u16>>>,
) -> Vec<(TrafficSet, RangeSet<u16>)> {
    let Some(published) = published else {
        return vec![(traffic.clone(), RangeSet::full())];
    };
    let mut parts: Vec<(TrafficSet, RangeSet<u16>)> = Vec::new();
    for (protocol, ports) in published.iter() {
        let traffic = traffic.intersection(&protocol.traffic(RangeSet::full()));
        if traffic.is_empty() || ports.is_empty() {
            continue;
        }
        match parts.iter_mut().find(|it| it.1 == *ports) {
            Some((known, _)) => *known = known.union(&traffic),
            None => parts.push((traffic, ports.clone())),
        }
    }
    parts
}

/// How the rule reads, its narrower keys put where they belong.
fn written(rule: &Rule) -> Written {
    let mut traffic = rule.traffic_terms.join(", ");
    if !rule.source_ports.is_full() {
        traffic.push_str(&format!(" from port {}", rule.source_ports));
    }
    if !rule.published_terms.is_empty() {
        traffic.push_str(&format!(" published at {}", rule.published_terms.join(", ")));
    }
    if !rule.ingress.is_empty() {
        traffic.push_str(&format!(" in by {}", rule.ingress.join(" or ")));
    }
    if !rule.egress.is_empty() {
        traffic.push_str(&format!(" out by {}", rule.egress.join(" or ")));
    }
    if !rule.programs.is_empty() {
        traffic.push_str(&format!(" of {}", rule.programs.join(" or ")));
    }
    if !rule.users.is_empty() {
        traffic.push_str(&format!(" by {}", rule.users.join(" or ")));
    }
    let (mut from, mut to) = (rule.from_terms.join(", "), rule.to_terms.join(", "));
    if !rule.at_terms.is_empty() {
        let end = if rule.direction == Direction::Outbound { &mut from } else { &mut to };
        let comma = if end.is_empty() { "" } else { ", " };
        end.push_str(&format!("{comma}at {}", rule.at_terms.join(", ")));
    }
    Written { traffic, from, to }
}
