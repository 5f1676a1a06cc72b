//! What leaves a host, and what passes through it, as far as its rules tell packets apart.

use super::classes::{classes, sendable};
use super::course::{Site, source_ports, speaker, telling};
use crate::plan::{Act, Condition, Decision, HostPlan};
use crate::space::{
    AddressSet, Direction, Family, Packet, PortProtocol, RangeSet, Relation, Tracking, TrafficSet,
    Transport,
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

/// A packet that is to be tried, the first of its flow, and what is to decide about it.
#[derive(Clone, Debug)]
pub struct Crossing<'p> {
    /// The packet.
    pub packet: Packet,
    /// The decision that takes it.
    pub decision: &'p Decision,
}

/// What is to be tried.
#[derive(Clone, Debug, Default)]
pub struct Crossings<'p> {
    /// The packets.
    pub packets: Vec<Crossing<'p>>,
    /// How many more rules tell apart that were left out, as they would be too many.
    pub left_out: u64,
}

/// Packets of a direction, outbound or forwarded: of each part of the senders and receivers that no rule divides one, by each
/// interface that rules tell apart, with whatever they tell apart in what it carries; `most` of them. What is allowed up to a
/// rate is not among them.
#[must_use]
pub fn crossings<'p>(
    plan: &'p HostPlan,
    site: &Site,
    direction: Direction,
    most: u64,
) -> Crossings<'p> {
    let decisions = plan.chain(direction).decisions.iter().filter(|it| it.idle.is_none());
    let conditions: Vec<&Condition> = decisions.flat_map(|it| &it.conditions).collect();
    let (all, missing) = ends(plan, site, direction, &conditions);
    let choices = Family::BOTH.map(|family| {
        let of = |it: &IpAddr| Family::of(*it) == family;
        Choices {
            senders: all.senders.iter().copied().filter(of).collect(),
            receivers: all.receivers.iter().filter(|it| of(&it.0)).cloned().collect(),
            ways_in: all.ways_in.clone(),
            carried: carried(&conditions, &site.ports, family),
        }
    });
    let [v4, v6] = choices.each_ref().map(Choices::count);
    let count = v4.saturating_add(v6);
    let step = count.div_ceil(most.max(1)).max(1);
    let mut found = Crossings { packets: Vec::new(), left_out: missing };
    // One of each run of so many, as if there were no order in which.
    for run in 0..count.div_ceil(step) {
        let within = (run.wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 32) % step;
        let at = run * step + if step == 1 { 0 } else { within };
        let packet = if at < v4 { choices[0].at(at) } else { choices[1].at(at - v4) };
        let Some(packet) = packet.filter(|it| it.source != it.destination) else { continue };
        let packet = plan.related(Packet { direction, ..packet });
        let decision = plan.decision(&packet);
        if !matches!(decision.act, Act::AllowWithin(_)) {
            found.packets.push(Crossing { packet, decision });
        }
    }
    found.left_out += count - count.div_ceil(step).min(count);
    found
}

/// What packets of an IP version are made of.
struct Choices {
    senders: Vec<IpAddr>,
    /// Receivers, each with the link by which it is reached.
    receivers: Vec<(IpAddr, String)>,
    ways_in: Vec<Option<String>>,
    carried: Vec<Transport>,
}

impl Choices {
    /// How many packets there are.
    fn count(&self) -> u64 {
        let parts =
            [self.senders.len(), self.receivers.len(), self.ways_in.len(), self.carried.len()];
        parts.into_iter().fold(1, |all, it| all.saturating_mul(it as u64))
    }

    /// One of them; what it carries changes fastest.
    fn at(&self, mut number: u64) -> Option<Packet> {
        let mut pick = |count: usize| -> Option<usize> {
            let at = number.checked_rem(count as u64)?;
            number /= count as u64;
            usize::try_from(at).ok()
        };
        let transport = self.carried[pick(self.carried.len())?];
        let in_interface = self.ways_in[pick(self.ways_in.len())?].clone();
        let (destination, link) = &self.receivers[pick(self.receivers.len())?];
        let source = self.senders[pick(self.senders.len())?];
        Some(Packet {
            direction: Direction::Outbound,
            in_interface,
            out_interface: Some(link.clone()),
            source,
            destination: *destination,
            transport,
            state: Tracking::default().state_alone(transport, Family::of(source)),
            program: None,
            user: None,
            asked: None,
            source_is: Relation::default(),
            destination_is: Relation::default(),
        })
    }
}

/// Who sends, who receives, and by which links.
struct Ends {
    senders: Vec<IpAddr>,
    receivers: Vec<(IpAddr, String)>,
    ways_in: Vec<Option<String>>,
}

/// All of them; and how many receivers were left out.
fn ends(
    plan: &HostPlan,
    site: &Site,
    direction: Direction,
    conditions: &[&Condition],
) -> (Ends, u64) {
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
            let room = receivers.len() < MOST_RECEIVERS;
            match room.then(|| speaker(&part.difference(&used))).flatten() {
                Some(found) => {
                    used = used.union(&AddressSet::single(found));
                    receivers.push((found, link.clone()));
                }
                None => missing += 1,
            }
        }
    }
    let ways_in = if inside { vec![None] } else { links.iter().cloned().map(Some).collect() };
    (Ends { senders, receivers, ways_in }, missing)
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
