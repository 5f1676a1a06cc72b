//! Traffic as a policy writes it.

use crate::adopt::terms::terms as port_terms;
use crate::space::{ICMP, ICMP_KINDS, ICMPV6, IGMP, IcmpKind, PortProtocol, RangeSet, TrafficSet};

/// Terms that mean just this; `None` if none do.
pub(super) fn terms(set: &TrafficSet) -> Option<Vec<String>> {
    if set.is_any() {
        return Some(vec!["any".into()]);
    }
    let some = named_but(set);
    // All but something are two words at least.
    if some.as_ref().is_some_and(|it| it.len() <= 2) {
        return some;
    }
    let but = TrafficSet::any().difference(set);
    let all_but = named(&but).map(|it| {
        let left_out = it.iter().map(|it| format!("!{it}"));
        ["any".to_owned()].into_iter().chain(left_out).collect::<Vec<_>>()
    });
    [some, all_but].into_iter().flatten().min_by_key(Vec::len)
}

/// Terms, also some that are left out.
fn named_but(set: &TrafficSet) -> Option<Vec<String>> {
    let mut words = Vec::new();
    for (protocol, ports) in set.ports.iter() {
        words.extend(port_terms(ports.ranges(), protocol));
    }
    words.extend(icmp(set)?);
    words.extend(others(&set.others)?);
    Some(words)
}

/// Terms without any that are left out.
fn named(set: &TrafficSet) -> Option<Vec<String>> {
    let words = named_but(set)?;
    (!words.iter().any(|it| it.starts_with('!'))).then_some(words)
}

/// Of ICMP, and of its number in packets of the other IP version: whole protocols, some kinds besides, and without
/// others.
fn icmp(set: &TrafficSet) -> Option<Vec<String>> {
    let numbers = RangeSet::from_ranges([(ICMP, ICMP), (ICMPV6, ICMPV6)]);
    let wanted = TrafficSet {
        others: set.others.intersection(&numbers),
        ports: TrafficSet::empty().ports,
        ..set.clone()
    };
    if wanted == TrafficSet::empty() {
        return Some(Vec::new());
    }
    let whole = [
        ("icmp".to_owned(), TrafficSet::icmp(RangeSet::full(), RangeSet::full())),
        (format!("proto:{ICMP}"), TrafficSet::protocol(ICMP)),
        (format!("proto:{ICMPV6}"), TrafficSet::protocol(ICMPV6)),
    ];
    let choices =
        (0..1 << whole.len()).flat_map(|all| (0..1 << whole.len()).map(move |it| (all, it)));
    let picked = |bits: usize| {
        let is_in = move |it: &(usize, _)| bits >> it.0 & 1 == 1;
        whole.iter().enumerate().filter(is_in).map(|it| it.1)
    };
    let tried = choices.filter_map(|(with, without)| {
        let left_out = union(picked(without));
        let base = union(picked(with)).difference(&left_out);
        let (more, found) =
            kinds(&wanted.difference(&base), |it| it.difference(&wanted) == TrafficSet::empty());
        let named = union(picked(with)).union(&found).difference(&left_out);
        let (less, gone) =
            kinds(&named.difference(&wanted), |it| it.intersection(&wanted) == TrafficSet::empty());
        let words = picked(with).map(|it| it.0.clone()).chain(more);
        let but = picked(without).map(|it| it.0.clone()).chain(less).map(|it| format!("!{it}"));
        (named.difference(&gone) == wanted).then(|| words.chain(but).collect::<Vec<_>>())
    });
    tried.min_by_key(Vec::len)
}

fn union<'s>(sets: impl Iterator<Item = &'s (String, TrafficSet)>) -> TrafficSet {
    sets.fold(TrafficSet::empty(), |all, it| all.union(&it.1))
}

/// Names of kinds of messages for as many of these as `may` allows, and what those are.
fn kinds(wanted: &TrafficSet, may: impl Fn(&TrafficSet) -> bool) -> (Vec<String>, TrafficSet) {
    let of = |kind: &IcmpKind| {
        let types = |it: Option<u8>| it.map_or_else(RangeSet::empty, RangeSet::single);
        TrafficSet::icmp(types(kind.v4), types(kind.v6))
    };
    let (mut words, mut all) = (Vec::new(), TrafficSet::empty());
    for kind in ICMP_KINDS {
        let of = of(kind);
        if may(&of) && wanted.difference(&all).intersection(&of) != TrafficSet::empty() {
            all = all.union(&of);
            words.push(format!("icmp:{}", kind.name));
        }
    }
    (words, all)
}

/// Protocols by their numbers, but for those that have words of their own.
fn others(numbers: &RangeSet<u8>) -> Option<Vec<String>> {
    let own = PortProtocol::numbers();
    let listed = numbers.ranges().iter().flat_map(|&(first, last)| first..=last);
    let listed = listed.filter(|it| ![ICMP, ICMPV6].contains(it));
    let listed: Vec<u8> = listed.collect();
    if listed.iter().any(|it| own.contains(*it)) {
        return None;
    }
    let word = |it: u8| if it == IGMP { "igmp".to_owned() } else { format!("proto:{it}") };
    Some(listed.into_iter().map(word).collect())
}
