//! A condition to lists of simple tests.

use super::model::{End, Test};
use crate::plan::{Condition, InterfaceTest};
use crate::space::{ByProtocol, Family, ICMP, ICMPV6, PortProtocol, RangeSet, RelationSet, TCP};
use std::collections::BTreeSet;

/// The lists of tests that together say what the condition takes: one for each combination of IP
/// version and protocol group that it needs. With `tcp_apart`, none takes TCP and more.
pub(crate) fn clauses(condition: &Condition, tcp_apart: bool) -> Vec<Vec<Test>> {
    let mut common = Vec::new();
    if condition.in_interface != InterfaceTest::Any {
        common.push(Test::InInterface(condition.in_interface.clone()));
    }
    if condition.out_interface != InterfaceTest::Any {
        common.push(Test::OutInterface(condition.out_interface.clone()));
    }
    common.extend(condition.until.map(Test::Before));
    common.extend(condition.states.map(Test::State));
    // Where one way of writing a list is as good as another, equal lists are written alike.
    let in_order = |names: &[String]| -> Vec<String> {
        match names {
            [] => Vec::new(),
            _ => names.iter().collect::<BTreeSet<_>>().into_iter().cloned().collect(),
        }
    };
    let (programs, users) = (in_order(&condition.programs), in_order(&condition.users));

    let published = &condition.published;
    let published = (!published.is_full()).then(|| Test::Published(published.clone()));

    let groups = groups(condition, tcp_apart);
    let mut clauses = Vec::with_capacity(groups.len());
    for group in groups {
        for (family, addresses) in address_tests(condition, group.family) {
            for relations in relation_tests(condition, family) {
                let mut tests = Vec::with_capacity(common.len() + addresses.len() + 4);
                tests.extend_from_slice(&common);
                // Version, protocol, addresses, then what lies behind the IP header.
                tests.extend(family.map(Test::Family));
                tests.extend(group.protocols.clone().map(Test::Protocol));
                tests.extend_from_slice(&addresses);
                tests.extend_from_slice(&group.finer);
                tests.extend(relations);
                tests.extend(published.clone());
                // The socket is looked for last: that takes longest.
                tests.extend((!programs.is_empty()).then(|| Test::Program(programs.clone())));
                tests.extend((!users.is_empty()).then(|| Test::User(users.clone())));
                clauses.push(tests);
            }
        }
    }
    clauses
}

/// Whether a condition asks for the networks that the host is on.
fn asks_for_links(condition: &Condition) -> bool {
    let ends = [condition.source_is, condition.destination_is];
    ends.into_iter()
        .filter(|it| !it.is_full())
        .flat_map(RelationSet::asked)
        .any(|it| it.1.is_some())
}

/// The lists of tests of what the ends are to the host, in packets of an IP version.
fn relation_tests(condition: &Condition, family: Option<Family>) -> Vec<Vec<Test>> {
    if condition.source_is.is_full() && condition.destination_is.is_full() {
        return vec![Vec::new()];
    }
    let alternatives = |end: End, set: RelationSet| -> Vec<Vec<Test>> {
        let tests = |(own, link): (Option<bool>, Option<bool>)| {
            let link = link.zip(family).map(|(is, family)| Test::OnLink(end, family, is));
            link.into_iter().chain(own.map(|is| Test::Own(end, is))).collect()
        };
        set.asked().into_iter().map(tests).collect()
    };
    let sources = alternatives(End::Source, condition.source_is);
    let destinations = alternatives(End::Destination, condition.destination_is);
    let pairs = sources.iter().flat_map(|first| destinations.iter().map(move |it| (first, it)));
    pairs.map(|(first, second)| [first.as_slice(), second].concat()).collect()
}

/// Traffic that one list of tests can name.
struct Group {
    /// The only IP version it occurs in.
    family: Option<Family>,
    protocols: Option<RangeSet<u8>>,
    finer: Vec<Test>,
}

/// Two ranges are quicker told and asked one by one than as a set; more are one set.
fn in_few(ports: &RangeSet<u16>) -> impl Iterator<Item = RangeSet<u16>> {
    let apart = match ports.ranges() {
        [] => [None, None],
        &[first, second] => [first, second].map(|it| Some(RangeSet::from_ranges([it]))),
        _ => [Some(ports.clone()), None],
    };
    apart.into_iter().flatten()
}

/// How many lists of protocols [`alike`] gives.
pub(super) fn kinds(all: &ByProtocol<RangeSet<u16>>) -> usize {
    let new = |(at, ports): &(usize, &RangeSet<u16>)| {
        !ports.is_empty() && all.values().take(*at).all(|before| before != *ports)
    };
    all.values().enumerate().filter(new).count()
}

/// The protocols that are meant at any ports; those at the same ports together.
fn alike(all: &ByProtocol<RangeSet<u16>>, tcp_apart: bool) -> Vec<(RangeSet<u8>, &RangeSet<u16>)> {
    let mut found: Vec<(RangeSet<u8>, &RangeSet<u16>)> = Vec::new();
    for (protocol, ports) in all.iter().filter(|it| !it.1.is_empty()) {
        let number = RangeSet::single(protocol.number());
        let apart = RangeSet::single(TCP);
        match found.iter_mut().find(|it| it.1 == ports && !(tcp_apart && it.0 == apart)) {
            Some((numbers, _)) => *numbers = numbers.union(&number),
            None => found.push((number, ports)),
        }
    }
    found
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
    let with_ports = |numbers: &RangeSet<u8>, ports: RangeSet<u16>| {
        let mut finer = Vec::new();
        if !any_source_port {
            finer.push(Test::SourcePort(source_ports.clone()));
        }
        if !ports.is_full() {
            finer.push(Test::DestinationPort(ports));
        }
        Group { family: None, protocols: Some(numbers.clone()), finer }
    };
    let mut groups = Vec::new();
    for (numbers, ports) in alike(&traffic.ports, tcp_apart) {
        groups.extend(in_few(ports).map(|ports| with_ports(&numbers, ports)));
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
    if traffic.others.is_empty() {
        return groups;
    }
    let mut others = traffic.others.difference(&PortProtocol::numbers());
    // ICMP in packets of the other IP version, where that is not all of the number.
    for (number, types, elsewhere) in
        [(ICMP, &traffic.icmp, Family::V6), (ICMPV6, &traffic.icmpv6, Family::V4)]
    {
        if others.contains(number) && !types.is_full() {
            others = others.difference(&RangeSet::single(number));
            groups.push(Group { family: Some(elsewhere), ..all(Some(RangeSet::single(number))) });
        }
    }
    if !others.is_empty() {
        groups.push(all(Some(others)));
    }
    groups
}

/// For each IP version that needs a list of its own: the version, and the tests of its addresses.
fn address_tests(condition: &Condition, only: Option<Family>) -> Vec<(Option<Family>, Vec<Test>)> {
    let (source, destination) = (&condition.source, &condition.destination);
    let either = only.is_none() && !asks_for_links(condition);
    if either && source.is_full() && destination.is_full() {
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
