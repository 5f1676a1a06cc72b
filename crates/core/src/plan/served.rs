//! UDP ports that only certain programs serve.
//!
//! Connection tracking knows the addresses and ports of a UDP flow, not whose socket it is: whoever
//! takes the port after the named program would go on in its flows, since replies pass. So at such ports
//! replies pass only to and from sockets of the named programs; what others send and receive there is
//! decided by the rules, as if it were new.

use super::condition::Condition;
use super::model::{Decision, RuleId};
use crate::policy::{Host, Time, Verdict};
use crate::space::{ConnectionState, Direction, RangeSet, TrafficSet};
use std::collections::BTreeSet;

/// A rule for more ports than this is not about services: clients have theirs among them.
const MANY: u32 = 1_024;

/// UDP ports, and the programs that alone may be reached there.
pub struct Served {
    ports: RangeSet<u16>,
    programs: Vec<String>,
}

impl Served {
    /// The ports at which the host's rules let others reach named programs and nobody else.
    pub fn of(host: &Host, now: Time) -> Option<Self> {
        if host.defaults.of(Direction::Inbound).verdict == Verdict::Allow {
            return None;
        }
        let (mut named, mut open) = (RangeSet::empty(), RangeSet::empty());
        let mut programs = BTreeSet::new();
        let active = host.rules.iter().filter(|rule| {
            rule.direction == Direction::Inbound
                && rule.verdict == Verdict::Allow
                && !rule.paused
                && rule.until.is_none_or(|until| until > now)
        });
        for rule in active {
            let ports = &rule.traffic.udp;
            if rule.programs.is_empty() {
                open = open.union(ports);
            } else if count(ports) <= MANY {
                named = named.union(ports);
                programs.extend(rule.programs.iter().cloned());
            }
        }
        let ports = named.difference(&open);
        (!ports.is_empty()).then(|| Self { ports, programs: programs.into_iter().collect() })
    }

    /// Has the decision about replies ask whose socket it is.
    pub fn narrow(&self, decision: &mut Decision, direction: Direction) {
        let established = || Condition::states(&[ConnectionState::Established]);
        let programs = || self.programs.clone();
        let datagrams = |ports: &RangeSet<u16>| TrafficSet::udp(ports.clone());
        let full = RangeSet::full();
        let elsewhere = full.difference(&self.ports);
        let all = decision.conditions.clone();
        let apart = |udp: &RangeSet<u16>| {
            let traffic = TrafficSet { udp: udp.clone(), ..TrafficSet::any() };
            all.iter().map(move |it| Condition { traffic: traffic.clone(), ..it.clone() })
        };
        decision.conditions = match direction {
            Direction::Forwarded => return,
            Direction::Inbound => {
                let own = Condition {
                    traffic: datagrams(&self.ports),
                    programs: programs(),
                    ..established()
                };
                apart(&elsewhere).chain([own]).collect()
            }
            Direction::Outbound => {
                let from_elsewhere = Condition {
                    traffic: datagrams(&full),
                    source_ports: elsewhere,
                    ..established()
                };
                let own = Condition {
                    traffic: datagrams(&full),
                    source_ports: self.ports.clone(),
                    programs: programs(),
                    ..established()
                };
                apart(&RangeSet::empty()).chain([from_elsewhere, own]).collect()
            }
        };
        decision.written.traffic =
            format!("replies, related; at {}/udp of {}", self.ports, self.programs.join(" or "));
    }
}

/// Whether the decision is that about replies.
pub fn is_replies(decision: &Decision) -> bool {
    decision.id == RuleId::baseline("replies")
}

fn count(ports: &RangeSet<u16>) -> u32 {
    ports.ranges().iter().map(|it| u32::from(it.1) - u32::from(it.0) + 1).sum()
}
