//! UDP ports that only certain programs serve.
//!
//! Connection tracking knows the addresses and ports of a UDP flow, not whose socket it is: whoever
//! takes the port after the named program would go on in its flows, since replies pass. So at such ports
//! replies pass only to and from sockets of the named programs; what others send and receive there is
//! decided by the rules, as if it were new.

use super::condition::Condition;
use super::model::{Decision, RuleId};
use crate::policy::{Host, Time, Verdict};
use crate::space::{ConnectionState, Direction, PortProtocol, RangeSet};
use std::collections::{BTreeMap, BTreeSet};

/// A rule for more ports than this is not about services: clients have theirs among them.
const MANY: u32 = 1_024;

/// UDP ports, each with the programs that alone may be reached there.
pub(super) struct Served(Vec<(RangeSet<u16>, BTreeSet<String>)>);

impl Served {
    /// The ports at which the host's rules let others reach named programs and nobody else.
    pub(super) fn of(host: &Host, now: Time) -> Option<Self> {
        if host.defaults.of(Direction::Inbound).verdict == Verdict::Allow {
            return None;
        }
        let mut open = RangeSet::empty();
        let mut parts: Vec<(RangeSet<u16>, BTreeSet<String>)> = Vec::new();
        let active = host.rules.iter().filter(|rule| {
            rule.direction == Direction::Inbound
                && rule.verdict == Verdict::Allow
                && !rule.paused
                && rule.until.is_none_or(|until| until > now)
        });
        for rule in active {
            let ports = &rule.traffic.ports[PortProtocol::Udp];
            if rule.programs.is_empty() {
                open = open.union(ports);
            } else if count(ports) <= MANY {
                // Ports that another rule names as well are their programs' too, the others' only these.
                let programs: BTreeSet<String> = rule.programs.iter().cloned().collect();
                let mut rest = ports.clone();
                for (known, theirs) in std::mem::take(&mut parts) {
                    let both: BTreeSet<String> = theirs.union(&programs).cloned().collect();
                    parts.push((known.intersection(ports), both));
                    parts.push((known.difference(ports), theirs));
                    rest = rest.difference(&known);
                }
                parts.push((rest, programs));
                parts.retain(|it| !it.0.is_empty());
            }
        }
        for (ports, _) in &mut parts {
            *ports = ports.difference(&open);
        }
        let mut of: BTreeMap<BTreeSet<String>, RangeSet<u16>> = BTreeMap::new();
        for (ports, programs) in parts.into_iter().filter(|it| !it.0.is_empty()) {
            let all = of.entry(programs).or_insert_with(RangeSet::empty);
            *all = all.union(&ports);
        }
        let parts: Vec<_> = of.into_iter().map(|(programs, ports)| (ports, programs)).collect();
        (!parts.is_empty()).then_some(Self(parts))
    }

    /// Has the decision about replies ask whose socket it is.
    pub(super) fn narrow(&self, decision: &mut Decision, direction: Direction) {
        let established = || Condition::states(&[ConnectionState::Established]);
        let datagrams = |ports: &RangeSet<u16>| PortProtocol::Udp.traffic(ports.clone());
        let full = RangeSet::full();
        let served = self.0.iter().fold(RangeSet::empty(), |all, it| all.union(&it.0));
        let elsewhere = full.difference(&served);
        let own = |part: &(RangeSet<u16>, BTreeSet<String>)| {
            let programs = part.1.iter().cloned().collect();
            match direction {
                Direction::Outbound => Condition {
                    traffic: datagrams(&full),
                    source_ports: part.0.clone(),
                    programs,
                    ..established()
                },
                _ => Condition { traffic: datagrams(&part.0), programs, ..established() },
            }
        };
        let own = self.0.iter().map(own);
        let all = decision.conditions.clone();
        let apart = |udp: RangeSet<u16>| {
            all.iter().map(move |it| {
                let mut traffic = it.traffic.clone();
                traffic.ports[PortProtocol::Udp] = udp.clone();
                Condition { traffic, ..it.clone() }
            })
        };
        decision.conditions = match direction {
            Direction::Forwarded => return,
            Direction::Inbound => apart(elsewhere).chain(own).collect(),
            Direction::Outbound => {
                let from_elsewhere = Condition {
                    traffic: datagrams(&full),
                    source_ports: elsewhere.clone(),
                    ..established()
                };
                apart(RangeSet::empty()).chain([from_elsewhere]).chain(own).collect()
            }
        };
        let told: Vec<String> = self
            .0
            .iter()
            .map(|(ports, programs)| {
                let programs: Vec<&str> = programs.iter().map(String::as_str).collect();
                format!("at {ports}/udp of {}", programs.join(" or "))
            })
            .collect();
        decision.written.traffic = format!("replies, related; {}", told.join("; "));
    }
}

/// Whether the decision is that about replies.
pub(crate) fn is_replies(decision: &Decision) -> bool {
    decision.id == RuleId::baseline("replies")
}

fn count(ports: &RangeSet<u16>) -> u32 {
    ports.ranges().iter().map(|it| u32::from(it.1) - u32::from(it.0) + 1).sum()
}
