//! A plan as access control lists.

use super::model::{
    Ace, Aces, Acl, Acls, Actions, Document, Icmp, Interface, Interfaces, Ip, Matches, Ports,
    Transport,
};
use crate::plan::{Act, Condition, Decision, HostPlan, InterfaceTest, Kind};
use crate::policy::Verdict;
use crate::space::{AddressSet, Direction, Family, ICMP, ICMPV6, PortProtocol, RangeSet};
use std::collections::BTreeSet;

/// A list of more entries than this is not written.
const MOST: usize = 200_000;

/// What was written, and what could not be.
#[derive(Debug)]
pub struct Exported {
    /// The lists: for each direction one for each IP version.
    pub document: Document,
    /// What they do not say.
    pub losses: Vec<Loss>,
    /// How many entries they have.
    pub entries: usize,
}

/// What access control lists do not say of a decision.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Loss {
    /// The direction.
    pub direction: Direction,
    /// The decision.
    pub name: String,
    /// What it says that they cannot.
    pub what: Vec<&'static str>,
    /// Whether the decision is left out for it, as those that let something in are; others are written
    /// without it, and keep out more.
    pub left_out: bool,
}

/// The rules and defaults of a plan as access control lists. `None` if that would be too many entries.
#[must_use]
pub fn export(plan: &HostPlan) -> Option<Exported> {
    let (mut lists, mut losses, mut links) = (Vec::new(), Vec::new(), BTreeSet::new());
    let mut entries = 0;
    for direction in Direction::ALL {
        let decisions = plan.chain(direction).decisions.iter();
        let active = decisions.filter(|it| it.idle.is_none() && it.id.kind != Kind::Baseline);
        let mut said = Vec::new();
        for decision in active {
            let what = lost(decision);
            let left_out = decision.act.verdict() == Verdict::Allow && !what.is_empty();
            if !what.is_empty() {
                losses.push(Loss { direction, name: decision.id.to_string(), what, left_out });
            }
            if !left_out {
                said.push(decision);
            }
        }
        for family in Family::BOTH {
            let mut list = Vec::new();
            for decision in &said {
                aces(decision, family, &mut list, MOST - entries)?;
            }
            entries += list.len();
            for matches in list.iter().map(|it| &it.matches) {
                links.extend(matches.ingress_interface.clone());
                links.extend(matches.egress_interface.clone());
            }
            let (word, kind) = match family {
                Family::V4 => ("ipv4", "ipv4-acl-type"),
                Family::V6 => ("ipv6", "ipv6-acl-type"),
            };
            lists.push(Acl {
                name: format!("{}/{direction}/{word}", plan.host),
                kind: Some(kind.into()),
                aces: Aces { ace: list },
            });
        }
    }
    let interface = |name: String| Interface { name, kind: "iana-if-type:ethernetCsmacd".into() };
    let interface: Vec<Interface> = links.into_iter().map(interface).collect();
    let interfaces = (!interface.is_empty()).then_some(Interfaces { interface });
    Some(Exported {
        document: Document { interfaces, acls: Acls { acl: lists, ..Acls::default() } },
        losses,
        entries,
    })
}

/// What a decision says that no list can.
fn lost(decision: &Decision) -> Vec<&'static str> {
    let any = |test: &dyn Fn(&Condition) -> bool| decision.conditions.iter().any(test);
    let not = |it: &InterfaceTest| matches!(it, InterfaceTest::IsNot(_));
    let sctp = |it: &Condition| {
        let ports = &it.traffic.ports[PortProtocol::Sctp];
        !(ports.is_empty() || ports.is_full() && it.source_ports.is_full())
    };
    let said = [
        ("a rate", matches!(decision.act, Act::AllowWithin(_))),
        ("a program", any(&|it| !it.programs.is_empty())),
        ("a user", any(&|it| !it.users.is_empty())),
        ("an end", any(&|it| it.until.is_some())),
        ("published ports", any(&|it| !it.published.is_full())),
        ("every interface but one", any(&|it| not(&it.in_interface) || not(&it.out_interface))),
        ("ports of SCTP", any(&sctp)),
        (
            "addresses that the host has at the moment",
            any(&|it| !it.source_is.is_full() || !it.destination_is.is_full()),
        ),
    ];
    said.into_iter().filter(|it| it.1).map(|it| it.0).collect()
}

/// The entries of a decision in an IP version; `None` if the list would have more than `most`.
fn aces(decision: &Decision, family: Family, out: &mut Vec<Ace>, most: usize) -> Option<()> {
    let forwarding = match decision.act.verdict() {
        Verdict::Allow => "accept",
        Verdict::Deny => "drop",
        Verdict::Reject => "reject",
    };
    let before = out.len();
    let entry = |number: usize, matches: Matches| Ace {
        name: match number {
            0 => decision.id.to_string(),
            _ => format!("{}/{}", decision.id, number + 1),
        },
        matches,
        actions: Actions {
            forwarding: forwarding.into(),
            logging: decision.log.map(|_| "log-syslog".into()),
            ..Actions::default()
        },
        ..Ace::default()
    };
    for condition in &decision.conditions {
        let named = |test: &InterfaceTest| match test {
            InterfaceTest::Is(name) => Some(name.clone()),
            InterfaceTest::Any | InterfaceTest::IsNot(_) => None,
        };
        let carried = carried(condition, family, most)?;
        let [sources, destinations] =
            [&condition.source, &condition.destination].map(|it| networks(it, family));
        let more = sources.len().checked_mul(destinations.len())?.checked_mul(carried.len())?;
        if out.len().checked_add(more)? > most {
            return None;
        }
        for source in &sources {
            for destination in &destinations {
                for (protocol, part) in &carried {
                    let ip = Ip { protocol: *protocol, ..Ip::between(family, source, destination) };
                    let mut matches = Matches {
                        ingress_interface: named(&condition.in_interface),
                        egress_interface: named(&condition.out_interface),
                        ..Matches::default()
                    };
                    part.put(&mut matches);
                    // An entry of a list of one version is about that anyway.
                    let said = ip.protocol.is_some() || source.is_some() || destination.is_some();
                    match family {
                        Family::V4 => matches.ipv4 = said.then_some(ip),
                        Family::V6 => matches.ipv6 = said.then_some(ip),
                    }
                    out.push(entry(out.len() - before, matches));
                }
            }
        }
    }
    Some(())
}

impl Ip {
    fn between(family: Family, source: &Option<String>, destination: &Option<String>) -> Self {
        let (source, destination) = (source.clone(), destination.clone());
        match family {
            Family::V4 => Self {
                source_ipv4_network: source,
                destination_ipv4_network: destination,
                ..Self::default()
            },
            Family::V6 => Self {
                source_ipv6_network: source,
                destination_ipv6_network: destination,
                ..Self::default()
            },
        }
    }
}

/// The networks of a set; one `None` if it holds every address of the version.
fn networks(set: &AddressSet, family: Family) -> Vec<Option<String>> {
    if set.has_all(family) {
        return vec![None];
    }
    let blocks = set.only(family).blocks();
    let prefix = |text: String| match (text.contains('/'), family) {
        (true, _) => text,
        (false, Family::V4) => format!("{text}/32"),
        (false, Family::V6) => format!("{text}/128"),
    };
    blocks.iter().map(|it| Some(prefix(it.to_string()))).collect()
}

/// What a packet carries behind the IP header, as an entry says it.
enum Part {
    Nothing,
    Ports(PortProtocol, Option<(u16, u16)>, Option<(u16, u16)>),
    Icmp(Option<u8>),
}

impl Part {
    fn put(&self, matches: &mut Matches) {
        match self {
            Self::Nothing | Self::Icmp(None) | Self::Ports(_, None, None) => {}
            Self::Icmp(kind) => matches.icmp = Some(Icmp { kind: *kind, ..Icmp::default() }),
            Self::Ports(protocol, source, destination) => {
                let transport = Some(Transport {
                    source_port: source.map(range),
                    destination_port: destination.map(range),
                    ..Transport::default()
                });
                match protocol {
                    PortProtocol::Tcp => matches.tcp = transport,
                    PortProtocol::Udp => matches.udp = transport,
                    PortProtocol::Sctp => {}
                }
            }
        }
    }
}

fn range((first, last): (u16, u16)) -> Ports {
    if first == last {
        let operator = Some("eq".into());
        return Ports { operator, port: Some(first), ..Ports::default() };
    }
    Ports { lower_port: Some(first), upper_port: Some(last), ..Ports::default() }
}

/// What a condition is about, entry by entry: the protocol, and what lies behind the IP header. `None` if that
/// would be more than `most`.
fn carried(condition: &Condition, family: Family, most: usize) -> Option<Vec<(Option<u8>, Part)>> {
    let traffic = &condition.traffic;
    let any_source = condition.source_ports.is_full();
    if traffic.is_any() && any_source {
        return Some(vec![(None, Part::Nothing)]);
    }
    let ranges = |set: &RangeSet<u16>| -> Vec<Option<(u16, u16)>> {
        if set.is_full() { vec![None] } else { set.ranges().iter().copied().map(Some).collect() }
    };
    let mut found = Vec::new();
    for (protocol, ports) in traffic.ports.iter().filter(|it| !it.1.is_empty()) {
        let number = Some(protocol.number());
        if protocol == PortProtocol::Sctp {
            // Whoever keeps out some ports of it keeps out all.
            found.push((number, Part::Nothing));
            continue;
        }
        let (sources, destinations) = (ranges(&condition.source_ports), ranges(ports));
        if sources.len().checked_mul(destinations.len())? > most {
            return None;
        }
        for source in sources {
            for &destination in &destinations {
                found.push((number, Part::Ports(protocol, source, destination)));
            }
        }
    }
    if !any_source {
        return Some(found);
    }
    let (own, types) = match family {
        Family::V4 => (ICMP, &traffic.icmp),
        Family::V6 => (ICMPV6, &traffic.icmpv6),
    };
    match types.is_full() {
        true => found.push((Some(own), Part::Icmp(None))),
        false => {
            let all = types.ranges().iter().flat_map(|&(first, last)| first..=last);
            found.extend(all.map(|kind| (Some(own), Part::Icmp(Some(kind)))));
        }
    }
    let spoken_for = PortProtocol::numbers().union(&RangeSet::single(own));
    let others = traffic.others.difference(&spoken_for);
    let all = others.ranges().iter().flat_map(|&(first, last)| first..=last);
    found.extend(all.map(|number| (Some(number), Part::Nothing)));
    Some(found)
}
