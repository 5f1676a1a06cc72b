//! UDP ports that only certain programs or users serve.
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

/// Whose sockets: under each list of users, of anybody if it is empty, their programs, all if there is
/// none.
type Owners = BTreeMap<BTreeSet<String>, BTreeSet<String>>;

/// UDP ports, each with those who alone may be reached there.
pub(super) struct Served(Vec<(RangeSet<u16>, Owners)>);

/// The sockets of either.
fn either(first: &Owners, second: &Owners) -> Owners {
    let mut both = first.clone();
    for (users, programs) in second {
        both.entry(users.clone())
            .and_modify(|theirs| {
                if programs.is_empty() || theirs.is_empty() {
                    theirs.clear();
                } else {
                    theirs.extend(programs.iter().cloned());
                }
            })
            .or_insert_with(|| programs.clone());
    }
    both
}

/// The owners, as they are told.
fn told(owners: &Owners) -> String {
    let joined = |lead: &str, names: &BTreeSet<String>| {
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        (!names.is_empty()).then(|| format!("{lead} {}", names.join(" or ")))
    };
    let one = |(users, programs): (&BTreeSet<String>, &BTreeSet<String>)| {
        let words = [joined("of", programs), joined("by", users)];
        words.into_iter().flatten().collect::<Vec<_>>().join(" ")
    };
    owners.iter().map(one).collect::<Vec<_>>().join(", ")
}

impl Served {
    /// The ports at which the host's rules let others reach named programs or users and nobody else.
    pub(super) fn of(host: &Host, now: Time) -> Option<Self> {
        if host.defaults.of(Direction::Inbound).verdict == Verdict::Allow {
            return None;
        }
        let mut open = RangeSet::empty();
        let mut parts: Vec<(RangeSet<u16>, Owners)> = Vec::new();
        let active = host.rules.iter().filter(|rule| {
            rule.direction == Direction::Inbound
                && rule.verdict == Verdict::Allow
                && !rule.paused
                && rule.until.is_none_or(|until| until > now)
        });
        for rule in active {
            let ports = &rule.traffic.ports[PortProtocol::Udp];
            if rule.programs.is_empty() && rule.users.is_empty() {
                open = open.union(ports);
            } else if count(ports) <= MANY {
                // Ports that another rule names as well are their programs' too, the others' only these.
                let set = |names: &[String]| names.iter().cloned().collect::<BTreeSet<_>>();
                let owners = Owners::from([(set(&rule.users), set(&rule.programs))]);
                let mut rest = ports.clone();
                for (known, theirs) in std::mem::take(&mut parts) {
                    parts.push((known.intersection(ports), either(&theirs, &owners)));
                    parts.push((known.difference(ports), theirs));
                    rest = rest.difference(&known);
                }
                parts.push((rest, owners));
                parts.retain(|it| !it.0.is_empty());
            }
        }
        for (ports, _) in &mut parts {
            *ports = ports.difference(&open);
        }
        let mut of: BTreeMap<Owners, RangeSet<u16>> = BTreeMap::new();
        for (ports, owners) in parts.into_iter().filter(|it| !it.0.is_empty()) {
            let all = of.entry(owners).or_insert_with(RangeSet::empty);
            *all = all.union(&ports);
        }
        let parts: Vec<_> = of.into_iter().map(|(owners, ports)| (ports, owners)).collect();
        (!parts.is_empty()).then_some(Self(parts))
    }

    /// Has the decision about replies ask whose socket it is.
    pub(super) fn narrow(&self, decision: &mut Decision, direction: Direction) {
        let established = || Condition::states(&[ConnectionState::Established]);
        let datagrams = |ports: &RangeSet<u16>| PortProtocol::Udp.traffic(ports.clone());
        let full = RangeSet::full();
        let served = self.0.iter().fold(RangeSet::empty(), |all, it| all.union(&it.0));
        let elsewhere = full.difference(&served);
        let own = |ports: &RangeSet<u16>, (users, programs): (&BTreeSet<_>, &BTreeSet<_>)| {
            let list = |names: &BTreeSet<String>| names.iter().cloned().collect();
            let whose = Condition { users: list(users), programs: list(programs), ..established() };
            match direction {
                Direction::Outbound => {
                    Condition { traffic: datagrams(&full), source_ports: ports.clone(), ..whose }
                }
                _ => Condition { traffic: datagrams(ports), ..whose },
            }
        };
        let own = self.0.iter().flat_map(|part| part.1.iter().map(|it| own(&part.0, it)));
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
        let told: Vec<String> =
            self.0.iter().map(|it| format!("at {}/udp {}", it.0, told(&it.1))).collect();
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
