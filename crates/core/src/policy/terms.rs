//! The small notations inside lists: traffic such as `53/tcp+udp`, and senders or receivers.

use super::table::{Reader, Text};
use super::{Diagnostic, Interface, KNOWN_SERVICES, Place, Service, Used, known_service, nearest};
use crate::space::{
    AddressSet, Block, BlockError, ByProtocol, ICMP_KINDS, IGMP, PortProtocol, RangeError,
    RangeSet, TrafficSet, address_range,
};
use std::ops::Range;

/// The built-in place that holds every address.
pub const ANYWHERE: &str = "anywhere";
/// The built-in place that holds the addresses of the host whose rule it is.
pub const THIS_HOST: &str = "this-host";
/// The built-in place that holds the addresses which are not routed on the Internet.
pub(super) const PRIVATE: &str = "private";
/// The built-in place that holds the networks of the host's own addresses.
pub const ON_LINK: &str = "on-link";
/// The names of all built-in places.
pub(crate) const BUILT_IN_PLACES: [&str; 4] = [ANYWHERE, THIS_HOST, ON_LINK, PRIVATE];

/// Private, shared and link-local addresses (RFC 1918, RFC 6598, RFC 3927, RFC 4193, RFC 4291
/// section 2.5.6).
const PRIVATE_BLOCKS: [&str; 7] = [
    "10.0.0.0/8",
    "172.16.0.0/12",
    "192.168.0.0/16",
    "100.64.0.0/10",
    "169.254.0.0/16",
    "fc00::/7",
    "fe80::/10",
];

/// The words that are traffic terms by themselves.
pub(crate) const TRAFFIC_WORDS: [&str; 3] = ["any", "icmp", "igmp"];

fn private() -> AddressSet {
    let blocks = PRIVATE_BLOCKS.iter().filter_map(|text| Block::parse(text).ok());
    blocks.map(|block| block.addresses()).collect()
}

/// Reads one traffic term; what is wrong with it is reported.
pub(super) fn traffic(
    reader: &mut Reader<'_>,
    services: &[Service],
    term: &Text,
) -> Option<TrafficSet> {
    if let Some(service) = services.iter().find(|service| service.name == term.value) {
        reader.uses(Used::Service, term);
        return Some(service.traffic.clone());
    }
    match term.value.as_str() {
        "any" => return Some(TrafficSet::any()),
        "icmp" => return Some(TrafficSet::icmp(RangeSet::full(), RangeSet::full())),
        "igmp" => return Some(TrafficSet::protocol(IGMP)),
        _ => {}
    }
    let is_word = !term.value.contains(['/', ':']);
    if let Some(service) = is_word.then(|| known_service(&term.value)).flatten() {
        return Some(service.traffic());
    }
    if let Some(kind) = term.value.strip_prefix("icmp:") {
        return icmp_kind(reader, term, kind);
    }
    if let Some(number) = term.value.strip_prefix("proto:") {
        return protocol(reader, term, number);
    }
    match term.value.split_once('/') {
        Some((ports, protocols)) => ports_and_protocols(reader, term, ports, protocols),
        None => {
            let problem = no_protocol(reader, services, term);
            reader.report(problem);
            None
        }
    }
}

fn icmp_kind(reader: &mut Reader<'_>, term: &Text, found: &str) -> Option<TrafficSet> {
    if let Some(kind) = ICMP_KINDS.iter().find(|kind| kind.name == found) {
        let types = |kind: Option<u8>| kind.map_or_else(RangeSet::empty, RangeSet::single);
        return Some(TrafficSet::icmp(types(kind.v4), types(kind.v6)));
    }
    let start = term.value.len() - found.len();
    let problem = Diagnostic::error(
        "unknown-icmp",
        format!("`{found}` is not a kind of ICMP message"),
        reader.origin(term.part(start..term.value.len())),
    );
    let names = || ICMP_KINDS.iter().map(|kind| kind.name);
    reader.report(match nearest(found, names()) {
        Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
        None => problem
            .expected("expected a name, since the numbers differ between the IP versions")
            .help(format!("the kinds are: {}", names().collect::<Vec<_>>().join(", "))),
    });
    None
}

fn protocol(reader: &mut Reader<'_>, term: &Text, found: &str) -> Option<TrafficSet> {
    let is_plain = found.bytes().all(|byte| byte.is_ascii_digit());
    if let Some(number) = found.parse().ok().filter(|_| is_plain) {
        return Some(TrafficSet::protocol(number));
    }
    let start = term.value.len() - found.len();
    let origin = reader.origin(term.part(start..term.value.len()));
    let message = format!("`{found}` is not a protocol number");
    reader.report(
        Diagnostic::error("unknown-protocol", message, origin)
            .expected("expected a number from 0 to 255"),
    );
    None
}

fn ports_and_protocols(
    reader: &mut Reader<'_>,
    term: &Text,
    ports: &str,
    protocols: &str,
) -> Option<TrafficSet> {
    let range = port_range(reader, term, ports)?;
    let mut named = ByProtocol::new(|_| false);
    let mut at = ports.len() + 1;
    for word in protocols.split('+') {
        let span = term.part(at..at + word.len());
        at += word.len() + 1;
        let Some(protocol) = PortProtocol::parse(word) else {
            let problem = Diagnostic::error(
                "unknown-protocol",
                format!("`{word}` is not a protocol with ports"),
                reader.origin(span),
            );
            reader.report(match nearest(word, PortProtocol::ALL.map(PortProtocol::as_str)) {
                Some(near) => {
                    problem.expected(format!("did you mean `{near}`?")).replace_with(near)
                }
                None => problem.expected("expected `tcp`, `udp`, `sctp` or several, as `tcp+udp`"),
            });
            return None;
        };
        if std::mem::replace(&mut named[protocol], true) {
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
    let ports = |protocol: PortProtocol| {
        if named[protocol] { RangeSet::from_ranges([range]) } else { RangeSet::empty() }
    };
    Some(TrafficSet { ports: ByProtocol::new(ports), ..TrafficSet::empty() })
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
fn no_protocol(reader: &Reader<'_>, services: &[Service], term: &Text) -> Diagnostic {
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
    let own = services.iter().map(|it| it.name.as_str()).chain(TRAFFIC_WORDS);
    // The policy's own names are likelier than any of the long table.
    let near = nearest(found, own)
        .or_else(|| nearest(found, KNOWN_SERVICES.iter().map(|service| service.name)));
    match near {
        Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
        None => {
            problem.expected("expected a term such as `443/tcp`, `8000-8080/udp`, `icmp` or `any`")
        }
    }
}

/// Reads one block of addresses; what is wrong with it is reported.
pub(super) fn block(reader: &mut Reader<'_>, term: &Text) -> Option<Block> {
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

/// Reads one port or range of ports without a protocol, such as an item of `source-ports`.
pub(super) fn ports(reader: &mut Reader<'_>, term: &Text) -> Option<(u16, u16)> {
    if let Some((ports, _)) = term.value.split_once('/') {
        let problem = Diagnostic::error(
            "bad-port",
            format!("`{}` names a protocol", term.value),
            reader.origin(term.inner()),
        );
        let problem = problem.expected("the protocol is that of the rule's traffic");
        reader.report(problem.replace_with(ports));
        return None;
    }
    port_range(reader, term, &term.value)
}

/// What senders and receivers can be named after.
pub(super) struct Names<'a> {
    /// The places that the policy defines.
    pub places: &'a [Place],
    /// The services that the policy defines.
    pub services: &'a [Service],
    /// The addresses of the host that the list belongs to; `None` if it belongs to none.
    pub this_host: Option<&'a AddressSet>,
    /// The networks of those addresses; `None` if it belongs to no host, or if none is written.
    pub on_link: Option<&'a AddressSet>,
    /// Whether the host's addresses are what the kernel says at the moment.
    pub moving: bool,
    /// Whether those of this host stand for those of any: then what leaves them out leaves out nobody.
    pub any_host: bool,
    /// That host's interfaces; `None` if any role may turn out to be known.
    pub interfaces: Option<&'a [Interface]>,
}

/// Whether the kernel would take the text as an interface's name (`dev_valid_name`).
#[must_use]
pub fn is_interface_name(text: &str) -> bool {
    (1..=15).contains(&text.len())
        && !matches!(text, "." | "..")
        && !text.contains(|char: char| char.is_whitespace() || matches!(char, '/' | ':' | '\0'))
}

/// Reads a list of senders or receivers: places, addresses, networks, ranges. What has a `!` in
/// front is left out; a list of only such items means everything else.
pub(super) fn addresses(reader: &mut Reader<'_>, names: &Names<'_>, terms: &[Text]) -> AddressSet {
    let (mut named, mut excluded) = (Vec::new(), Vec::new());
    for term in terms {
        match term.value.strip_prefix('!') {
            Some(it) => {
                let of_some_host = names.any_host && [THIS_HOST, ON_LINK].contains(&it);
                let set = one_end(reader, names, &term.after(1));
                excluded.extend(set.filter(|_| !of_some_host));
            }
            None => named.extend(one_end(reader, names, term)),
        }
    }
    let only_exclusions = terms.iter().all(|term| term.value.starts_with('!'));
    let named = if only_exclusions { AddressSet::full() } else { named.into_iter().collect() };
    named.difference(&excluded.into_iter().collect())
}

fn one_end(reader: &mut Reader<'_>, names: &Names<'_>, term: &Text) -> Option<AddressSet> {
    let found = term.value.as_str();
    if let Some(place) = names.places.iter().find(|place| place.name == found) {
        reader.uses(Used::Place, term);
        return Some(place.addresses.clone());
    }
    match (found, names.this_host) {
        (ANYWHERE, _) => return Some(AddressSet::full()),
        (PRIVATE, _) => return Some(private()),
        (THIS_HOST, Some(own)) => return Some(own.clone()),
        (ON_LINK, Some(_)) => return on_link(reader, names, term),
        _ => {}
    }
    if looks_like_an_address(found) {
        return block_or_range(reader, term);
    }
    let problem = Diagnostic::error(
        "unknown-place",
        format!("there is no place `{found}`"),
        reader.origin(term.inner()),
    );
    let built_in = || {
        let has_host = names.this_host.is_some();
        let of_hosts = [THIS_HOST, ON_LINK];
        BUILT_IN_PLACES.into_iter().filter(move |name| has_host || !of_hosts.contains(name))
    };
    let known = || names.places.iter().map(|place| place.name.as_str()).chain(built_in());
    reader.report(match nearest(found, known()) {
        Some(near) => problem.expected(format!("did you mean `{near}`?")).replace_with(near),
        None => problem
            .expected("expected a place or an address")
            .help(format!("the places are: {}", known().collect::<Vec<_>>().join(", "))),
    });
    None
}

fn on_link(reader: &mut Reader<'_>, names: &Names<'_>, term: &Text) -> Option<AddressSet> {
    if names.on_link.is_none() {
        let origin = reader.origin(term.inner());
        let message = "it is not written which networks this host is on";
        reader.report(
            Diagnostic::error("no-networks", message, origin)
                .expected("needs a prefix length at the host's `addresses`")
                .help("write them like \"192.0.2.10/24\" and \"2001:db8:2::10/64\""),
        );
    }
    names.on_link.cloned()
}

/// Reads a network, a single address or a range of addresses; what is wrong with it is reported.
pub(crate) fn block_or_range(reader: &mut Reader<'_>, term: &Text) -> Option<AddressSet> {
    let Some((first, last)) = term.value.split_once('-') else {
        return block(reader, term).map(|block| block.addresses());
    };
    let error = match address_range(first, last) {
        Ok(set) => return Some(set),
        Err(error) => error,
    };
    let found = &term.value;
    let problem =
        |message: String| Diagnostic::error("bad-address", message, reader.origin(term.inner()));
    let problem = match error {
        RangeError::NotAnAddress => problem(format!("`{found}` is not a range of addresses"))
            .expected("expected two addresses, such as `10.44.8.20-10.44.8.29`"),
        RangeError::MixedVersions => {
            problem(format!("the ends of `{found}` are of different IP versions"))
                .expected("write one range for each version")
        }
        RangeError::Backwards => problem(format!("the range `{found}` runs backwards"))
            .expected("the lower address comes first")
            .replace_with(format!("{last}-{first}")),
    };
    reader.report(problem);
    None
}

fn looks_like_an_address(text: &str) -> bool {
    text.contains([':', '.', '/'])
}
