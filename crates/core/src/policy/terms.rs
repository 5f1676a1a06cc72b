//! The small notations inside lists: traffic such as `53/tcp+udp`, and senders or receivers.

use super::table::{Reader, Text};
use super::{Diagnostic, Place, nearest};
use crate::space::{AddressSet, Block, BlockError, RangeSet, TrafficSet};
use std::ops::Range;

/// The built-in place that holds every address.
pub const ANYWHERE: &str = "anywhere";

/// Reads one traffic term; what is wrong with it is reported.
pub fn traffic(reader: &mut Reader<'_>, term: &Text) -> Option<TrafficSet> {
    match term.value.as_str() {
        "any" => return Some(TrafficSet::any()),
        "icmp" => return Some(TrafficSet::icmp(RangeSet::full(), RangeSet::full())),
        _ => {}
    }
    match term.value.split_once('/') {
        Some((ports, protocols)) => ports_and_protocols(reader, term, ports, protocols),
        None => {
            let problem = no_protocol(reader, term);
            reader.report(problem);
            None
        }
    }
}

fn ports_and_protocols(
    reader: &mut Reader<'_>,
    term: &Text,
    ports: &str,
    protocols: &str,
) -> Option<TrafficSet> {
    let range = port_range(reader, term, ports)?;
    let (mut tcp, mut udp) = (false, false);
    let mut at = ports.len() + 1;
    for word in protocols.split('+') {
        let span = term.part(at..at + word.len());
        at += word.len() + 1;
        let seen = match word {
            "tcp" => &mut tcp,
            "udp" => &mut udp,
            _ => {
                let problem = Diagnostic::error(
                    "unknown-protocol",
                    format!("`{word}` is not a protocol with ports"),
                    reader.origin(span),
                );
                reader.report(match nearest(word, ["tcp", "udp"]) {
                    Some(near) => {
                        problem.expected(format!("did you mean `{near}`?")).replace_with(near)
                    }
                    None => problem.expected("expected `tcp`, `udp` or `tcp+udp`"),
                });
                return None;
            }
        };
        if std::mem::replace(seen, true) {
            let problem = Diagnostic::error(
                "unknown-protocol",
                format!("`{word}` is named twice"),
                reader.origin(span),
            )
            .expected("name it once");
            reader.report(problem);
            return None;
        }
    }
    let ports = RangeSet::from_ranges([range]);
    let none = RangeSet::empty();
    Some(TrafficSet {
        tcp: if tcp { ports.clone() } else { none.clone() },
        udp: if udp { ports } else { none },
        ..TrafficSet::empty()
    })
}

fn port_range(reader: &mut Reader<'_>, term: &Text, ports: &str) -> Option<(u16, u16)> {
    let (first, last) = ports.split_once('-').unwrap_or((ports, ports));
    let start = ports.len() - last.len();
    let from = port(reader, term, first, 0..first.len())?;
    let to = port(reader, term, last, start..ports.len())?;
    if from > to {
        let problem = Diagnostic::error(
            "bad-port",
            format!("the range `{ports}` runs backwards"),
            reader.origin(term.part(0..ports.len())),
        )
        .expected("the lower port comes first")
        .replace_with(format!("{last}-{first}"));
        reader.report(problem);
        return None;
    }
    Some((from, to))
}

fn port(reader: &mut Reader<'_>, term: &Text, text: &str, part: Range<usize>) -> Option<u16> {
    let is_plain = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    if let Some(port) = text.parse().ok().filter(|&port| is_plain && port > 0) {
        return Some(port);
    }
    let span = if text.is_empty() { term.inner() } else { term.part(part) };
    let message = match (is_plain, text) {
        (true, _) => format!("there is no port {text}"),
        (false, "") => "a port is missing".to_owned(),
        (false, _) => format!("`{text}` is not a port"),
    };
    let problem = Diagnostic::error("bad-port", message, reader.origin(span))
        .expected("ports are numbers from 1 to 65535");
    reader.report(problem);
    None
}

/// A term without a slash is either a port whose protocol was left out, or a word nobody knows.
fn no_protocol(reader: &Reader<'_>, term: &Text) -> Diagnostic {
    let found = &term.value;
    let origin = reader.origin(term.inner());
    if found.bytes().next().is_some_and(|byte| byte.is_ascii_digit()) {
        return Diagnostic::error(
            "no-protocol",
            format!("`{found}` does not say which protocol"),
            origin,
        )
        .expected(format!("write `{found}/tcp`, `{found}/udp` or `{found}/tcp+udp`"));
    }
    let problem =
        Diagnostic::error("unknown-traffic", format!("`{found}` is not a kind of traffic"), origin);
    match nearest(found, ["any", "icmp"]) {
        Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
        None => {
            problem.expected("expected a term such as `443/tcp`, `8000-8080/udp`, `icmp` or `any`")
        }
    }
}

/// Reads one block of addresses; what is wrong with it is reported.
pub fn block(reader: &mut Reader<'_>, term: &Text) -> Option<Block> {
    match Block::parse(&term.value) {
        Ok(block) => Some(block),
        Err(error) => {
            let problem = bad_block(reader, term, &error);
            reader.report(problem);
            None
        }
    }
}

fn bad_block(reader: &Reader<'_>, term: &Text, error: &BlockError) -> Diagnostic {
    let found = &term.value;
    let origin = reader.origin(term.inner());
    match error {
        BlockError::NotAnAddress => {
            Diagnostic::error("bad-address", format!("`{found}` is not an address"), origin)
                .expected(
                    "expected an address or network such as `192.0.2.10` or `2001:db8:2::/64`",
                )
        }
        BlockError::BadPrefix { bits } => {
            let slash = found.find('/').map_or(0, |at| at + 1);
            Diagnostic::error(
                "bad-address",
                format!("`{found}` has no valid prefix length"),
                reader.origin(term.part(slash..found.len())),
            )
            .expected(format!("expected a number from 0 to {bits}"))
        }
        BlockError::HostBits { network, address } => Diagnostic::error(
            "host-bits",
            format!("`{found}` could mean a network or one address"),
            origin,
        )
        .expected(format!("write `{network}` for the network, or `{address}` for the one address")),
    }
}

/// Reads a list of senders or receivers: places, addresses, networks.
pub fn addresses(reader: &mut Reader<'_>, places: &[Place], terms: &[Text]) -> AddressSet {
    let mut sets = Vec::with_capacity(terms.len());
    for term in terms {
        let found = term.value.as_str();
        if found == ANYWHERE {
            sets.push(AddressSet::full());
        } else if let Some(place) = places.iter().find(|place| place.name == found) {
            sets.push(place.addresses.clone());
        } else if looks_like_an_address(found) {
            sets.extend(block(reader, term).map(|block| block.addresses()));
        } else {
            let problem = Diagnostic::error(
                "unknown-place",
                format!("there is no place `{found}`"),
                reader.origin(term.inner()),
            );
            let names: Vec<&str> = places.iter().map(|place| place.name.as_str()).collect();
            let names = || names.iter().copied().chain([ANYWHERE]);
            reader.report(match nearest(found, names()) {
                Some(near) => {
                    problem.expected(format!("did you mean `{near}`?")).replace_with(near)
                }
                None => problem
                    .expected("expected a place or an address")
                    .help(format!("the places are: {}", names().collect::<Vec<_>>().join(", "))),
            });
        }
    }
    sets.into_iter().collect()
}

fn looks_like_an_address(text: &str) -> bool {
    text.contains([':', '.', '/'])
}
