//! Access control lists as a policy.

use super::model::{Ace, Acl, Document, Ip, Matches, Ports, Transport};
use crate::adopt::fold::{both, folded};
use crate::adopt::rules::{Names, Rule, Typed, key};
use crate::adopt::terms::{name_of, terms, words};
use crate::policy::{Verdict, is_interface_name};
use crate::space::{AddressSet, Block, Direction, Family, ICMP, ICMPV6, PortProtocol, RangeSet};
use std::collections::HashSet;
use std::fmt::Write;

/// A policy made of lists.
#[derive(Debug)]
pub struct Taken {
    /// Its text.
    pub policy: String,
    /// How many entries of lists it says.
    pub entries: usize,
    /// The entries that it does not.
    pub not_taken: Vec<NotTaken>,
    /// The lists that end without saying what becomes of everything else.
    pub open_ended: Vec<String>,
}

/// An entry that a policy cannot say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NotTaken {
    /// The list; empty for what is beside all lists.
    pub list: String,
    /// The entry.
    pub entry: String,
    /// Why, as the rest of a sentence.
    pub why: String,
    /// Whether it keeps something out.
    pub keeps_out: bool,
}

/// Lists of which any could decide about the same packets.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Several {
    /// Which way those go.
    pub direction: Direction,
    /// Their IP version.
    pub family: Family,
    /// The names of the lists.
    pub lists: Vec<String>,
}

/// The policy of a host that says what the lists do. Those written by [`export`](super::export) tell their direction;
/// others are for the one given.
///
/// # Errors
/// [`Several`] if several lists are about the same packets: each is for links of its own, or for nothing.
pub fn taken(document: &Document, host: &str, direction: Direction) -> Result<Taken, Several> {
    let (mut not_taken, mut open_ended) = (Missing::default(), Vec::new());
    let (mut names, mut rules, mut defaults) = (Names::default(), String::new(), Vec::new());
    for key in document.acls.others.keys() {
        not_taken.add(
            "",
            key,
            "which links lists are for has to be said in the policy".into(),
            false,
        );
    }
    for way in Direction::ALL {
        let its = |it: &&Acl| direction_of(it).unwrap_or(direction) == way;
        let lists: Vec<&Acl> = document.acls.acl.iter().filter(its).collect();
        if lists.is_empty() {
            continue;
        }
        for family in Family::BOTH {
            let its =
                lists.iter().filter(|it| it.aces.ace.iter().any(|ace| is_about(it, ace, family)));
            let names: Vec<String> = its.map(|it| it.name.clone()).collect();
            if names.len() > 1 {
                return Err(Several { direction: way, family, lists: names });
            }
        }
        let [first, second] = Family::BOTH.map(|family| {
            let rules = folded(of_version(&lists, (way, family), &mut not_taken));
            with_names(rules, family, &mut not_taken)
        });
        let mut list = both(first, &second);
        let everything =
            |it: &Rule| Family::BOTH.into_iter().all(|family| it.takes_all(family)) && !it.log;
        let default = match list.last().filter(|it| everything(it)) {
            Some(last) => {
                let verdict = last.verdict;
                list.pop();
                verdict
            }
            None => {
                let closes = |family| list.iter().any(|it| it.takes_all(family));
                if !Family::BOTH.into_iter().all(closes) {
                    open_ended.extend(lists.iter().map(|it| it.name.clone()));
                }
                Verdict::Deny
            }
        };
        defaults.push((way, default));
        for rule in &mut list {
            rule.name = names.free(&rule.name);
            rule.write(&key(host), way, &[], &mut rules);
        }
    }
    let host = key(host);
    let mut policy = format!("edition = 1\n\n[host.{host}]\n\n[host.{host}.default]\n");
    for (direction, verdict) in defaults {
        // Writing to a text cannot fail.
        let _ = writeln!(policy, "{direction} = \"{}\"", verdict.as_str());
    }
    policy.push_str(&rules);
    let all: usize = document.acls.acl.iter().map(|it| it.aces.ace.len()).sum();
    Ok(Taken { policy, entries: all - not_taken.entries, not_taken: not_taken.list, open_ended })
}

/// What is not taken, each entry once.
#[derive(Default)]
struct Missing {
    known: HashSet<(String, String)>,
    list: Vec<NotTaken>,
    /// How many of them are entries of lists.
    entries: usize,
}

impl Missing {
    fn add(&mut self, list: &str, entry: &str, why: String, keeps_out: bool) {
        if self.known.insert((list.to_owned(), entry.to_owned())) {
            self.entries += usize::from(!list.is_empty());
            let (list, entry) = (list.to_owned(), entry.to_owned());
            self.list.push(NotTaken { list, entry, why, keeps_out });
        }
    }
}

/// The direction that a list's name tells, as ours have it.
fn direction_of(list: &Acl) -> Option<Direction> {
    let mut parts = list.name.rsplit('/');
    let version = parts.next()?;
    matches!(version, "ipv4" | "ipv6").then(|| parts.next().and_then(Direction::parse)).flatten()
}

/// Whether an entry is about packets of an IP version, as far as that can be told.
fn is_about(list: &Acl, ace: &Ace, family: Family) -> bool {
    versions(list, ace).is_ok_and(|it| it.contains(&family))
}

/// The rules that lists say of packets of a direction and IP version.
fn of_version(lists: &[&Acl], of: (Direction, Family), not_taken: &mut Missing) -> Vec<Rule> {
    let mut rules = Vec::new();
    for list in lists {
        for ace in &list.aces.ace {
            let found = match versions(list, ace) {
                Ok(about) if !about.contains(&of.1) => continue,
                Ok(_) => rule(list, ace, of),
                Err(why) => Err(why),
            };
            match found {
                Ok(mut rule) => {
                    ace.name.split('/').next().unwrap_or_default().clone_into(&mut rule.name);
                    rules.push(rule);
                }
                Err(why) => {
                    let keeps_out = bare(&ace.actions.forwarding) != "accept";
                    not_taken.add(&list.name, &ace.name, why, keeps_out);
                }
            }
        }
    }
    rules
}

/// A word without the name of the module in front.
fn bare(word: &str) -> &str {
    word.rsplit(':').next().unwrap_or(word)
}

/// The IP versions that an entry is about.
fn versions(list: &Acl, ace: &Ace) -> Result<Vec<Family>, String> {
    let kind = list.kind.as_deref().map(bare);
    let of_list: &[Family] = match kind {
        Some("ipv4-acl-type" | "mixed-eth-ipv4-acl-type") => &[Family::V4],
        Some("ipv6-acl-type" | "mixed-eth-ipv6-acl-type") => &[Family::V6],
        None | Some("mixed-eth-ipv4-ipv6-acl-type") => &Family::BOTH,
        Some(other) => {
            return Err(format!("lists of the type {} are not understood", shown(other)));
        }
    };
    let said = match (&ace.matches.ipv4, &ace.matches.ipv6) {
        (Some(_), None) => Some(Family::V4),
        (None, Some(_)) => Some(Family::V6),
        (None, None) => None,
        (Some(_), Some(_)) => return Err("it is about packets of both IP versions at once".into()),
    };
    let about: Vec<Family> =
        of_list.iter().copied().filter(|it| said.is_none_or(|said| said == *it)).collect();
    match about.is_empty() {
        true => Err("it is about the IP version that its list is not for".into()),
        false => Ok(about),
    }
}

fn shown(text: &str) -> String {
    format!("`{}`", text.escape_debug())
}

/// The rule that an entry is, in a direction and an IP version; its name is given later.
fn rule(list: &Acl, ace: &Ace, (direction, family): (Direction, Family)) -> Result<Rule, String> {
    let Matches { ipv4, ipv6, tcp, udp, icmp, ingress_interface, egress_interface, others } =
        &ace.matches;
    understood(others.keys())?;
    understood(ace.actions.others.keys())?;
    // What was counted is no part of what it means.
    let more: Vec<&String> = ace.others.keys().filter(|it| *it != "statistics").collect();
    understood(more)?;
    let ip = match family {
        Family::V4 => ipv4,
        Family::V6 => ipv6,
    };
    let own = if family == Family::V4 { ICMP } else { ICMPV6 };
    let spoken: Vec<(u8, Option<&Transport>)> = [
        tcp.as_ref().map(|it| (PortProtocol::Tcp.number(), Some(it))),
        udp.as_ref().map(|it| (PortProtocol::Udp.number(), Some(it))),
        icmp.as_ref().map(|_| (own, None)),
    ]
    .into_iter()
    .flatten()
    .collect();
    let said = ip.as_ref().and_then(|it| it.protocol);
    let protocol = match spoken[..] {
        [] => said,
        [(number, _)] if said.is_none_or(|it| it == number) => Some(number),
        _ => return Err("it is about several protocols at once".into()),
    };
    let transport = spoken.first().and_then(|it| it.1);
    let (mut source_ports, mut types) = (Vec::new(), Vec::new());
    let mut traffic = match protocol {
        None => vec!["any".to_owned()],
        Some(number) if number == own => vec!["icmp".to_owned()],
        Some(number) => vec![format!("proto:{number}")],
    };
    if let Some(transport) = transport {
        understood(transport.others.keys())?;
        let protocol = protocol.and_then(PortProtocol::of_number);
        let ranges = transport.destination_port.as_ref().map(ranges).transpose()?;
        if let (Some(ranges), Some(protocol)) = (ranges, protocol) {
            traffic = terms(&ranges, protocol);
        }
        if let Some(ranges) = transport.source_port.as_ref().map(self::ranges).transpose()? {
            if ranges.iter().any(|it| it.0 == 0) && ranges != [(0, u16::MAX)] {
                return Err("it names port 0 among those that packets come from".into());
            }
            let words = ranges.iter().filter(|it| **it != (0, u16::MAX)).map(|it| words(*it));
            source_ports = words.collect();
        }
    }
    if let Some(icmp) = icmp {
        understood(icmp.others.keys())?;
        if let Some(kind) = icmp.kind {
            traffic.clear();
            types.push(Typed { kind, list: list.name.clone(), entry: ace.name.clone() });
        }
    }
    links(direction, ingress_interface.as_deref(), egress_interface.as_deref())?;
    let (from, to) = ends(ip.as_ref(), family)?;
    Ok(Rule {
        name: String::new(),
        verdict: match bare(&ace.actions.forwarding) {
            "accept" => Verdict::Allow,
            "drop" => Verdict::Deny,
            "reject" => Verdict::Reject,
            other => return Err(format!("its action {} is not understood", shown(other))),
        },
        log: match ace.actions.logging.as_deref().map(bare) {
            None | Some("log-none") => false,
            Some("log-syslog") => true,
            Some(other) => return Err(format!("its logging {} is not understood", shown(other))),
        },
        traffic,
        types,
        source_ports,
        ingress: ingress_interface.iter().cloned().collect(),
        egress: egress_interface.iter().cloned().collect(),
        from,
        to,
        ..Rule::default()
    })
}

/// Whether a policy can say by which interfaces packets of a direction come and go.
fn links(direction: Direction, ingress: Option<&str>, egress: Option<&str>) -> Result<(), String> {
    match direction {
        Direction::Inbound if egress.is_some() => {
            return Err("inbound packets go out by no interface".into());
        }
        Direction::Outbound if ingress.is_some() => {
            return Err("outbound packets come in by no interface".into());
        }
        _ => {}
    }
    // What begins with `!` would mean all the others.
    let names = |it: &&str| is_interface_name(it) && !it.starts_with('!');
    match [ingress, egress].into_iter().flatten().find(|it| !names(it)) {
        Some(name) => Err(format!("{} cannot be the name of an interface", shown(name))),
        None => Ok(()),
    }
}

/// Puts names in for types of ICMP: those of the types, or where nearly all are meant, of those that are not. What
/// has no name is not taken.
fn with_names(rules: Vec<Rule>, family: Family, not_taken: &mut Missing) -> Vec<Rule> {
    let mut list = Vec::with_capacity(rules.len());
    for mut rule in rules {
        let types = std::mem::take(&mut rule.types);
        let kinds = RangeSet::from_ranges(types.iter().map(|it| (it.kind, it.kind)));
        let missing = RangeSet::full().difference(&kinds);
        let left: Vec<u8> =
            missing.ranges().iter().flat_map(|&(first, last)| first..=last).collect();
        let left: Option<Vec<&str>> = left.into_iter().map(|it| name_of(it, family)).collect();
        if let (false, Some(left)) = (kinds.is_empty(), left) {
            let but = left.iter().map(|it| format!("!icmp:{it}"));
            let traffic = ["icmp".to_owned()].into_iter().chain(but).collect();
            list.push(Rule { traffic, ..rule.clone() });
        } else {
            for Typed { kind, list, entry } in types {
                let term = name_of(kind, family).map(|it| format!("icmp:{it}"));
                match term {
                    Some(term) if rule.traffic.contains(&term) => {}
                    Some(term) => rule.traffic.push(term),
                    None => {
                        let why = format!("the policy has no name for ICMP type {kind}");
                        not_taken.add(&list, &entry, why, rule.verdict != Verdict::Allow);
                    }
                }
            }
        }
        if !rule.traffic.is_empty() {
            list.push(rule);
        }
    }
    list
}

fn understood<'k>(keys: impl IntoIterator<Item = &'k String>) -> Result<(), String> {
    let keys: Vec<String> = keys.into_iter().map(|it| shown(it)).collect();
    if keys.is_empty() {
        return Ok(());
    }
    Err(format!("a policy has nothing for its {}", keys.join(", ")))
}

fn ends(ip: Option<&Ip>, family: Family) -> Result<(AddressSet, AddressSet), String> {
    let all = || AddressSet::full().only(family);
    let Some(ip) = ip else { return Ok((all(), all())) };
    understood(ip.others.keys())?;
    let (own, foreign) = match family {
        Family::V4 => (
            [&ip.source_ipv4_network, &ip.destination_ipv4_network],
            [&ip.source_ipv6_network, &ip.destination_ipv6_network],
        ),
        Family::V6 => (
            [&ip.source_ipv6_network, &ip.destination_ipv6_network],
            [&ip.source_ipv4_network, &ip.destination_ipv4_network],
        ),
    };
    if foreign.iter().any(|it| it.is_some()) {
        return Err("it names networks of another IP version than its own".into());
    }
    let network = |text: &Option<String>| -> Result<AddressSet, String> {
        let Some(text) = text else { return Ok(all()) };
        let block = Block::parse(text).map_err(|_| format!("{} is no network", shown(text)))?;
        let set = block.addresses();
        if set.has(family) {
            Ok(set)
        } else {
            Err(format!("{} is of another IP version", shown(text)))
        }
    };
    Ok((network(own[0])?, network(own[1])?))
}

/// The ports that are meant.
fn ranges(ports: &Ports) -> Result<Vec<(u16, u16)>, String> {
    understood(ports.others.keys())?;
    let Ports { lower_port, upper_port, operator, port, .. } = ports;
    let found = match (lower_port, upper_port, operator.as_deref(), port) {
        (Some(first), Some(last), None, None) if first <= last => vec![(*first, *last)],
        // RFC 8519: only a lower port, and it is that one.
        (Some(only), None, None, None) => vec![(*only, *only)],
        (None, None, None | Some("eq"), Some(port)) => vec![(*port, *port)],
        (None, None, Some("lte"), Some(port)) => vec![(0, *port)],
        (None, None, Some("gte"), Some(port)) => vec![(*port, u16::MAX)],
        (None, None, Some("neq"), Some(port)) => {
            let below = port.checked_sub(1).map(|it| (0, it));
            let above = port.checked_add(1).map(|it| (it, u16::MAX));
            below.into_iter().chain(above).collect()
        }
        _ => return Err("its ports make no sense".into()),
    };
    Ok(found)
}
