//! What leaves a host, and what passes through it, as far as its rules tell packets apart.

use super::classes::{classes, sendable};
use super::course::{Site, source_ports, speaker, telling};
use super::judge::Judge;
use crate::plan::{Act, Condition, HostPlan};
use crate::space::{
    AddressSet, ConnectionState, Direction, Family, Packet, PortProtocol, RangeSet, Relation,
    Tracking, TrafficSet, Transport,
};
use std::net::IpAddr;

/// Each receiver is a neighbour that the host looks for; the kernel looks for no more than some hundreds at a time.
const MOST_RECEIVERS: usize = 200;
/// Besides the ports that rules tell apart, these.
const OTHER_PORTS: [u16; 8] = [7, 53, 1_023, 5_353, 8_080, 20_022, 33_434, 60_999];
/// Headers of IPv6 that are not what a packet carries (RFC 8200, RFC 4302, RFC 6275, RFC 7401, RFC 5533), and ICMP of either
/// version, which has types; what has ports is tried by them.
const NOT_CARRIED: [u8; 12] = [0, 1, 43, 44, 51, 58, 59, 60, 135, 139, 140, 255];

/// Its types of ICMPv6 (RFC 4286).
const ROUTER_DISCOVERY: [u8; 3] = [151, 152, 153];

/// What is to be tried.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Crossings {
    /// Packets, each the first of its flow.
    pub packets: Vec<Packet>,
    /// How many more rules tell apart that were left out, as they would be too many.
    pub left_out: usize,
}

/// Packets of a direction, outbound or forwarded: of each part of the senders and receivers that no rule divides one, by each
/// interface that rules tell apart, with whatever they tell apart in what it carries; about `most` of them. What is allowed up
/// to a rate is not among them.
#[must_use]
pub fn crossings(plan: &HostPlan, site: &Site, direction: Direction, most: usize) -> Crossings {
    let decisions = plan.chain(direction).decisions.iter().filter(|it| it.idle.is_none());
    let conditions: Vec<&Condition> = decisions.flat_map(|it| &it.conditions).collect();
    let (ends, mut missing) = ends(plan, site, direction, &conditions);
    let carried = Family::BOTH.map(|it| carried(&conditions, &site.ports, it));
    let of = |end: &Packet| &carried[usize::from(end.source.is_ipv6())];
    let all: usize = ends.iter().map(|it| of(it).len()).sum();
    let step = u64::try_from(all.div_ceil(most.max(1)).max(1)).unwrap_or(u64::MAX);
    let (mut packets, mut number) = (Vec::new(), 0u64);
    for end in &ends {
        let judge = Judge::between(plan, end);
        for transport in of(end) {
            // As if there were no order in it, so that each end has its share of each.
            number += 1;
            if (number.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 32) % step != 0 {
                missing += 1;
                continue;
            }
            let state = Tracking::default().state_alone(*transport, end.family());
            let packet = Packet { transport: *transport, state, ..end.clone() };
            if !matches!(judge.decision(&packet).act, Act::AllowWithin(_)) {
                packets.push(packet);
            }
        }
    }
    Crossings { packets, left_out: missing }
}

/// Senders and receivers, with the interfaces; and how many receivers were left out.
fn ends(
    plan: &HostPlan,
    site: &Site,
    direction: Direction,
    conditions: &[&Condition],
) -> (Vec<Packet>, usize) {
    let own: AddressSet = site.addresses.iter().map(|&it| AddressSet::single(it)).collect();
    let others = sendable().difference(&own);
    let parts = |of: fn(&Condition) -> &AddressSet, universe: &AddressSet| {
        let moving = plan.moving.then_some(&plan.on_link);
        let sets: Vec<&AddressSet> = conditions.iter().map(|it| of(it)).chain(moving).collect();
        classes(&sets, universe)
    };
    let inside = direction == Direction::Outbound;
    let senders = parts(|it| &it.source, if inside { &own } else { &others });
    let first = |part: &AddressSet| match inside {
        true => site.addresses.iter().copied().find(|it| part.contains(*it)),
        false => speaker(part),
    };
    let senders: Vec<IpAddr> = senders.iter().filter_map(first).collect();
    let links: &[String] = match plan.interfaces_told_apart(direction)[..] {
        [] => &site.interfaces[..site.interfaces.len().min(1)],
        _ => &site.interfaces,
    };
    // Each way out of the host has receivers of its own.
    let (mut used, mut receivers, mut missing) = (AddressSet::empty(), Vec::new(), 0);
    for part in parts(|it| &it.destination, &others) {
        for link in links {
            match speaker(&part.difference(&used)) {
                Some(found) if receivers.len() < MOST_RECEIVERS => {
                    used = used.union(&AddressSet::single(found));
                    receivers.push((found, link));
                }
                _ => missing += 1,
            }
        }
    }
    let ways_in = if inside { vec![None] } else { links.iter().map(Some).collect() };
    let mut found = Vec::new();
    for &source in &senders {
        for &(destination, link) in receivers.iter().filter(|it| it.0.is_ipv4() == source.is_ipv4())
        {
            for way_in in ways_in.iter().filter(|_| source != destination) {
                found.push(plan.related(Packet {
                    direction,
                    in_interface: way_in.cloned(),
                    out_interface: Some(link.clone()),
                    source,
                    destination,
                    transport: Transport::Other { protocol: 0 },
                    state: ConnectionState::New,
                    program: None,
                    user: None,
                    asked: None,
                    source_is: Relation::default(),
                    destination_is: Relation::default(),
                }));
            }
        }
    }
    (found, missing)
}

/// What rules tell apart in what packets of an IP version carry.
fn carried(conditions: &[&Condition], besides: &RangeSet<u16>, family: Family) -> Vec<Transport> {
    let traffic = || conditions.iter().map(|it| &it.traffic);
    let told = telling(traffic());
    let from = source_ports(conditions.iter().map(|it| &it.source_ports));
    let mut found = Vec::new();
    for protocol in PortProtocol::ALL {
        let is_told =
            |it: &TrafficSet| !it.ports[protocol].is_empty() && !it.ports[protocol].is_full();
        if protocol == PortProtocol::Sctp && !traffic().any(is_told) {
            continue;
        }
        let others = RangeSet::from_ranges(OTHER_PORTS.map(|it| (it, it)));
        let all = told.union(&others).union(besides);
        let ports =
            all.ranges().iter().flat_map(|&(first, last)| first..=last).filter(|it| *it > 0);
        for destination in ports {
            found.extend(from.iter().map(|&source| Transport::Ports {
                protocol,
                source,
                destination,
            }));
        }
    }
    let types = |of: fn(&TrafficSet) -> &RangeSet<u8>| cuts(traffic().map(of));
    let (kinds, usual) = match family {
        Family::V4 => (types(|it| &it.icmp), 8),
        Family::V6 => (types(|it| &it.icmpv6), 128),
    };
    let kinds = kinds.union(&RangeSet::single(usual));
    let numbers = |set: &RangeSet<u8>| -> Vec<u8> {
        set.ranges().iter().flat_map(|&(first, last)| first..=last).collect()
    };
    // What multicast router discovery is to connection tracking depends on the kernel.
    let kinds = numbers(&kinds).into_iter().filter(|it| !ROUTER_DISCOVERY.contains(it));
    found.extend(kinds.map(|kind| Transport::Icmp { kind }));
    let carried = |it: &u8| !NOT_CARRIED.contains(it) && PortProtocol::of_number(*it).is_none();
    let others = cuts(traffic().map(|it| &it.others)).union(&RangeSet::single(47));
    let others = numbers(&others).into_iter().filter(carried);
    found.extend(others.map(|protocol| Transport::Other { protocol }));
    found
}

/// Of each run of numbers that none of the sets tells apart, the first and the last.
fn cuts<'a>(sets: impl Iterator<Item = &'a RangeSet<u8>>) -> RangeSet<u8> {
    let around = |&(first, last): &(u8, u8)| {
        [Some(first), first.checked_sub(1), Some(last), last.checked_add(1)]
    };
    let all = sets.filter(|it| !it.is_full()).flat_map(|it| it.ranges().iter().flat_map(around));
    RangeSet::from_ranges(all.flatten().map(|it| (it, it)))
}
