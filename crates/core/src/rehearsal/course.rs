//! From where a host is tried.

use super::classes::{classes, sendable};
use crate::plan::HostPlan;
use crate::policy::Policy;
use crate::space::{AddressSet, Direction, Family, RangeSet, TrafficSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Sender, receiver and interface of a series of probes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Stand {
    /// What the senders are called.
    pub name: String,
    /// All senders of the IP version that fare alike.
    pub senders: AddressSet,
    /// The one of them that speaks for all.
    pub source: IpAddr,
    /// The address of the host that is tried.
    pub destination: IpAddr,
    /// The interface by which the probes come in.
    pub interface: String,
    /// The port they come from, where what they carry has ports.
    pub source_port: u16,
    /// What it is for.
    pub role: Role,
}

/// What a stand is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Role {
    /// It speaks for all senders that fare alike, and is tried at every port.
    Speaker,
    /// It speaks for them where rules tell source ports apart.
    OtherPort,
    /// It is another of them, at an end of a range: what one of many entries of a set got wrong shows
    /// only there.
    Member,
}

/// Of each run of ports that none of the sets tells apart, the first and the last.
pub(super) fn telling<'a>(sets: impl Iterator<Item = &'a TrafficSet>) -> RangeSet<u16> {
    let mut cuts: Vec<u16> = vec![0, u16::MAX];
    for set in sets {
        for &(first, last) in set.ports.values().flat_map(RangeSet::ranges) {
            let around = [Some(first), first.checked_sub(1), Some(last), last.checked_add(1)];
            cuts.extend(around.into_iter().flatten());
        }
    }
    RangeSet::from_ranges(cuts.into_iter().map(|port| (port, port)))
}

/// So many members are tried at most, in all.
const MOST_MEMBERS: usize = 4_096;

/// The port from which probes come unless a rule tells source ports apart: the first of the dynamic
/// ones (RFC 6335 section 6).
pub const CLIENT_PORT: u16 = 49_152;

impl Stand {
    /// The IP version of the probes.
    #[must_use]
    pub fn family(&self) -> Family {
        Family::of(self.source)
    }
}

/// All that has to be tried of what comes in to a host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Course {
    /// From where; the speakers first.
    pub stands: Vec<Stand>,
    /// How many ends of ranges were left out, because there are too many.
    pub left_out: usize,
    /// Of each run of ports that no rule tells apart, the first and the last.
    pub telling: RangeSet<u16>,
}

/// Where a host can be tried.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Site {
    /// Its interfaces besides the loopback one.
    pub interfaces: Vec<String>,
    /// The addresses that it has.
    pub addresses: Vec<IpAddr>,
    /// What tells senders apart there besides the rules about inbound packets.
    pub telling: Vec<AddressSet>,
    /// The ports at which something may change there besides those that the rules name.
    pub ports: RangeSet<u16>,
}

/// The interface of a host whose policy names none.
const SOME_INTERFACE: &str = "eth0";

impl Site {
    /// The interfaces and addresses that the policy names.
    #[must_use]
    pub fn of(plan: &HostPlan) -> Self {
        let mut interfaces: Vec<String> =
            plan.interfaces.iter().map(|it| it.name.clone()).collect();
        for name in plan.interfaces_told_apart(Direction::Inbound) {
            if !interfaces.contains(&name) {
                interfaces.push(name);
            }
        }
        if interfaces.is_empty() {
            interfaces.push(SOME_INTERFACE.into());
        }
        let addresses = plan.addresses.clone();
        Self { interfaces, addresses, telling: Vec::new(), ports: RangeSet::empty() }
    }
}

/// What the rules of the host tell apart among `from`; everybody if that is `None`.
///
/// Every part of the senders that no rule divides further is tried by one sender, at each address
/// of the host (where no rule tells those apart, at one of each IP version), by each interface, and
/// where rules tell source ports apart, from one of each kind. Besides, the ends of all ranges of
/// senders are tried at the ports that rules tell apart.
#[must_use]
pub fn course(policy: &Policy, plan: &HostPlan, site: &Site, from: Option<&AddressSet>) -> Course {
    let chain = plan.chain(Direction::Inbound);
    let active = || chain.decisions.iter().filter(|it| it.idle.is_none());
    let conditions: Vec<_> = active().flat_map(|it| &it.conditions).collect();
    let sources = conditions.iter().map(|it| &it.source).chain(&site.telling);
    let mut sources: Vec<&AddressSet> = sources.collect();
    let own: AddressSet = site.addresses.iter().map(|&it| AddressSet::single(it)).collect();
    let universe = from.unwrap_or(&AddressSet::full()).intersection(&sendable()).difference(&own);
    let mut destinations: Vec<&AddressSet> = conditions.iter().map(|it| &it.destination).collect();
    if plan.moving {
        sources.push(&plan.on_link);
        destinations.push(&plan.on_link);
    }
    // Of the addresses that no rule tells apart, the first as written.
    let receivers: Vec<IpAddr> = classes(&destinations, &own)
        .iter()
        .filter_map(|part| site.addresses.iter().copied().find(|&it| part.contains(it)))
        .collect();

    let source_ports = source_ports(conditions.iter().map(|it| &it.source_ports));
    let (mut stands, mut members) = (Vec::new(), Vec::new());
    let parts = classes(&sources, &universe);
    let names = names(policy, &parts);
    for (senders, name) in parts.into_iter().zip(names) {
        let Some(speaker) = speaker(&senders) else { continue };
        for interface in &site.interfaces {
            for &destination in receivers.iter().filter(|it| it.is_ipv4() == speaker.is_ipv4()) {
                let stand = |source: IpAddr, source_port: u16, role: Role| Stand {
                    name: name.clone(),
                    senders: senders.clone(),
                    source,
                    destination,
                    interface: interface.clone(),
                    source_port,
                    role,
                };
                stands.extend(source_ports.iter().map(|&port| {
                    let usual = port == CLIENT_PORT;
                    stand(speaker, port, if usual { Role::Speaker } else { Role::OtherPort })
                }));
                let others = ends(&senders).filter(|it| *it != speaker);
                members.extend(others.map(|it| stand(it, CLIENT_PORT, Role::Member)));
            }
        }
    }
    stands.sort_by_key(|stand| stand.role != Role::Speaker);
    let left_out = members.len().saturating_sub(MOST_MEMBERS);
    members.truncate(MOST_MEMBERS);
    stands.append(&mut members);
    let telling = telling(conditions.iter().map(|it| &it.traffic)).union(&site.ports);
    Course { stands, left_out, telling }
}

/// The ends of the ranges of a set; of an IPv6 network the second address, since the first stands for
/// its routers (RFC 4291 section 2.6.1) and gets no answers.
fn ends(set: &AddressSet) -> impl Iterator<Item = IpAddr> {
    let v4 = set.v4.ranges().iter().flat_map(|&(first, last)| {
        let last = (last > first).then_some(last);
        [Some(first), last].into_iter().flatten().map(|bits| Ipv4Addr::from_bits(bits).into())
    });
    let v6 = set.v6.ranges().iter().flat_map(|&(first, last)| {
        let network = first.trailing_zeros() >= 64 && last > first;
        let first = if network { first + 1 } else { first };
        let last = (last > first).then_some(last);
        [Some(first), last].into_iter().flatten().map(|bits| Ipv6Addr::from_bits(bits).into())
    });
    v4.chain(v6)
}

/// One of each kind of source port that the sets tell apart, the usual one first.
pub(super) fn source_ports<'a>(sets: impl Iterator<Item = &'a RangeSet<u16>>) -> Vec<u16> {
    let sets: Vec<&RangeSet<u16>> = sets.filter(|it| !it.is_full()).collect();
    let kind = |port: u16| sets.iter().map(|set| set.contains(port)).collect::<Vec<bool>>();
    let mut found = vec![(kind(CLIENT_PORT), CLIENT_PORT)];
    let ends = sets
        .iter()
        .flat_map(|set| set.ranges())
        .flat_map(|&(first, last)| [Some(first), last.checked_add(1)].into_iter().flatten());
    // Nobody sends from port 0.
    for port in ends.filter(|&port| port > 0) {
        let kind = kind(port);
        if found.iter().all(|it| it.0 != kind) {
            found.push((kind, port));
        }
    }
    found.into_iter().map(|it| it.1).collect()
}

/// Who speaks for senders that fare alike: if possible an address that nobody has. `None` if no
/// packet comes from any of them.
#[must_use]
pub fn speaker(senders: &AddressSet) -> Option<IpAddr> {
    let likely = |set: &AddressSet| Family::BOTH.into_iter().find_map(|family| set.likely(family));
    let senders = senders.intersection(&sendable());
    likely(&senders.intersection(&for_documentation())).or_else(|| likely(&senders))
}

/// Addresses that are kept free for examples (RFC 5737, RFC 3849).
fn for_documentation() -> AddressSet {
    let v4 = [0xcb00_7100, 0xc633_6400, 0xc000_0200].map(|first: u32| (first, first + 0xff));
    let v6 = (0x2001_0db8 << 96, (0x2001_0db9 << 96) - 1);
    AddressSet::from_v4(v4).union(&AddressSet::from_v6([v6]))
}

/// What the parts are called: by the smallest place that holds them, else by themselves if they
/// are few networks, else as everybody else.
fn names(policy: &Policy, parts: &[AddressSet]) -> Vec<String> {
    let smallest_place = |part: &AddressSet| {
        let holds = policy.places.iter().filter(|it| part.difference(&it.addresses).is_empty());
        holds.min_by_key(|place| size(&place.addresses))
    };
    parts
        .iter()
        .map(|part| match (smallest_place(part), part.blocks().as_slice()) {
            (Some(place), _) => place.name.clone(),
            (None, [block]) => block.to_string(),
            (None, _) => "elsewhere".into(),
        })
        .collect()
}

/// How many addresses a set has, less one for each range.
fn size(set: &AddressSet) -> u128 {
    let v4 = set.v4.ranges().iter().map(|(first, last)| u128::from(last - first));
    v4.chain(set.v6.ranges().iter().map(|(first, last)| last - first)).fold(0, u128::saturating_add)
}
