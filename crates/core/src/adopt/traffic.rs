//! An entry of a flat list as a rule of a policy.

use super::flatten::{End, Flat};
use super::narrowed::{Narrowed, own};
use super::rules::{Origin, Rule};
use super::terms::{name_of, terms, words};
use crate::policy::Verdict;
use crate::policy::{deceives, is_interface_name};
use crate::space::{AddressSet, Family, PortProtocol, RangeSet};

/// So many protocols are named one by one.
const NAMED: usize = 8;

/// The rule for an IP version; `None` if it is not about that.
///
/// # Errors
/// Why a policy cannot say it, as the rest of a sentence.
pub(super) fn rule(flat: &Flat<'_>, family: Family) -> Result<Option<Rule>, String> {
    let asked = &flat.asked;
    let End::Decides(verdict) = &flat.end else { return Ok(None) };
    if !asked.has(family) {
        return Ok(None);
    }
    let traffic = traffic(asked, family)?;
    let of = |set: &AddressSet| set.only(family);
    let comment = flat.row.and_then(|it| it.comment.as_deref()).map(plain);
    let rate = flat.rate.filter(|_| *verdict == Verdict::Allow);
    let origin =
        Origin { place: flat.place.clone(), comment, packets: flat.row.and_then(|it| it.packets) };
    let ports = asked.source_ports.difference(&RangeSet::single(0));
    let all = asked.source_ports.is_full();
    let source_ports: Vec<String> = match all {
        true => Vec::new(),
        false => ports.ranges().iter().map(|it| words(*it)).collect(),
    };
    if !all && source_ports.is_empty() {
        return Err("it is about nothing but what comes from port 0".into());
    }
    let links = |links: Option<Vec<String>>| {
        let links = links.ok_or("it is about all interfaces but several")?;
        match links.iter().find(|it| !is_interface_name(it.strip_prefix('!').unwrap_or(it))) {
            Some(name) => Err(format!("`{}` cannot be an interface", name.escape_debug())),
            None => Ok(links),
        }
    };
    Ok(Some(Rule {
        // So that what is said of the other IP version is known again; the name for readers comes last.
        name: verdict.as_str().into(),
        verdict: *verdict,
        log: flat.row.is_some_and(|it| it.log),
        traffic,
        types: Vec::new(),
        source_ports,
        ingress: links(asked.ingress.words())?,
        egress: links(asked.egress.words())?,
        from: of(&asked.source),
        to: of(&asked.destination),
        own: asked.own,
        rate,
        origins: vec![origin],
    }))
}

/// Words of others, without what readers would not see.
fn plain(text: &str) -> String {
    text.chars().map(|it| if it.is_control() || deceives(it) { ' ' } else { it }).collect()
}

/// Traffic terms.
fn traffic(asked: &Narrowed, family: Family) -> Result<Vec<String>, String> {
    let protocols = &asked.protocols;
    if let Some(types) = &asked.types {
        return if types.is_full() { Ok(vec!["icmp".into()]) } else { icmp(types, family) };
    }
    if !asked.ports.is_full() || !asked.source_ports.is_full() {
        let with_ports = PortProtocol::ALL.into_iter().filter(|it| protocols.contains(it.number()));
        let all = with_ports.flat_map(|it| match asked.ports.is_full() {
            true => vec![format!("proto:{}", it.number())],
            false => terms(asked.ports.ranges(), it),
        });
        return Ok(all.collect());
    }
    let numbers = |set: &RangeSet<u8>| -> Vec<u8> {
        set.ranges().iter().flat_map(|&(first, last)| first..=last).collect()
    };
    let term = |number: u8| match number {
        it if it == own(family) => "icmp".to_owned(),
        other => format!("proto:{other}"),
    };
    let missing = numbers(&RangeSet::full().difference(protocols));
    Ok(if missing.len() <= NAMED {
        let but = missing.into_iter().map(|it| format!("!{}", term(it)));
        ["any".to_owned()].into_iter().chain(but).collect()
    } else {
        numbers(protocols).into_iter().map(term).collect()
    })
}

/// Types of ICMP by their names: those that are meant, or where nearly all are, those that are not.
fn icmp(types: &RangeSet<u8>, family: Family) -> Result<Vec<String>, String> {
    let named = |set: &RangeSet<u8>, mark: &str| -> Result<Vec<String>, u8> {
        let all = set.ranges().iter().flat_map(|&(first, last)| first..=last);
        all.map(|kind| name_of(kind, family).map(|it| format!("{mark}icmp:{it}")).ok_or(kind))
            .collect()
    };
    match (named(types, ""), named(&RangeSet::full().difference(types), "!")) {
        (Ok(words), _) => Ok(words),
        (_, Ok(but)) => Ok(["icmp".to_owned()].into_iter().chain(but).collect()),
        (Err(kind), Err(_)) => Err(format!("the policy has no name for ICMP type {kind}")),
    }
}
