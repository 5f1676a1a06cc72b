//! The packet that a question means: what it says of it, and what it leaves open.

use super::question::Question;
use crate::{Failure, Loaded};
use std::net::IpAddr;
use tipstaff_core::plan::{HostPlan, LOOPBACK};
use tipstaff_core::policy::{Policy, Source, read_addresses, read_traffic};
use tipstaff_core::space::{
    AddressSet, Direction, Family, NameSet, Packet, Piece, RangeSet, Relation, RelationSet,
    SourcePorts, StateSet, Tracking, TrafficSet, Transport, closest,
};

/// A port that clients are given by their system (RFC 6335 section 6).
const CLIENT_PORT: u16 = 49_152;
const ECHO_REQUEST: u8 = 8;
const ECHO_REQUEST_V6: u8 = 128;

/// Makes up the packet: what is left out is put in as it would usually be. And all packets that it may
/// stand for.
pub(super) fn packet(loaded: &Loaded, question: &Question) -> Result<(Packet, Piece), Failure> {
    let plan = &loaded.plan;
    let direction = question.direction;
    let (source, destination) = ends(loaded, question)?;
    let (ingress, egress) = interfaces(plan, question, source, destination)?;
    let family = Family::of(source);
    let (traffic, transport) = transport(&loaded.policy, question, family)?;
    let state =
        question.state.unwrap_or_else(|| Tracking::default().state_alone(transport, family));
    let packet = plan.related(Packet {
        direction,
        in_interface: ingress,
        out_interface: egress,
        source,
        destination,
        transport,
        state,
        program: question.program.clone(),
        user: question.user.clone(),
        asked: question.published.filter(|it| *it > 0),
        source_is: Relation::default(),
        destination_is: Relation::default(),
    });
    let names = |name: &Option<String>| match name {
        Some(name) => NameSet::only([name.as_str()]),
        None => NameSet::all_but(LOOPBACK),
    };
    let only = |name: &Option<String>| {
        name.as_deref().map_or_else(NameSet::full, |it| NameSet::only([it]))
    };
    let source_ports = match (packet.ports(), question.source_port) {
        (None, _) => SourcePorts { ports: RangeSet::empty(), portless: true },
        (_, Some(port)) => SourcePorts { ports: RangeSet::single(port), portless: false },
        (_, None) => SourcePorts { ports: RangeSet::full(), portless: false },
    };
    let published = match (packet.ports(), question.published) {
        (None, _) => RangeSet::single(0),
        (_, Some(port)) => RangeSet::single(port),
        (_, None) => RangeSet::full(),
    };
    let unknown = plan.moving && plan.addresses.is_empty();
    let (host, other) = (RelationSet::of(|it| it.own), RelationSet::of(|it| !it.own));
    let is = |end: Direction, known: Relation| match unknown {
        true if direction == end => host,
        true => other,
        false => RelationSet::of(|it| it == known),
    };
    let meant = Piece {
        traffic,
        source: AddressSet::single(source),
        destination: AddressSet::single(destination),
        source_ports,
        in_interfaces: match direction {
            Direction::Outbound => NameSet::full(),
            _ => names(&packet.in_interface),
        },
        out_interfaces: match direction {
            Direction::Inbound => NameSet::full(),
            _ => names(&packet.out_interface),
        },
        programs: only(&packet.program),
        users: only(&packet.user),
        published,
        states: StateSet::of(&[state]),
        source_is: is(Direction::Outbound, packet.source_is),
        destination_is: is(Direction::Inbound, packet.destination_is),
    };
    Ok((packet, meant))
}

/// Where it comes from and goes to.
fn ends(loaded: &Loaded, question: &Question) -> Result<(IpAddr, IpAddr), Failure> {
    let plan = &loaded.plan;
    let read = |flag, text: &Option<String>| {
        text.as_ref().map(|text| one_address(&loaded.policy, flag, text)).transpose()
    };
    let (from, to) = (read("--from", &question.from)?, read("--to", &question.to)?);
    let missing = |flag: &str| {
        let help = format!("a question about {} traffic needs {flag} ADDRESS", question.direction);
        Failure::usage(format!("{flag} is missing"), help)
    };
    let own = |flag: &str, other: Option<IpAddr>| {
        let Some(other) = other else {
            return plan.addresses.first().copied().ok_or_else(|| missing(flag));
        };
        let family = Family::of(other);
        let closest = closest(plan.addresses.iter().copied(), other).or_else(|| plan.here(family));
        closest.ok_or_else(|| {
            let message = format!("`{}` has no address of {family}", plan.host);
            Failure::usage(message, format!("no packet goes between it and {other}"))
        })
    };
    let given = |flag: &str, address: Option<IpAddr>| address.ok_or_else(|| missing(flag));
    let (source, destination) = match question.direction {
        Direction::Inbound => {
            let source = given("--from", from)?;
            (source, to.map_or_else(|| own("--to", Some(source)), Ok)?)
        }
        Direction::Outbound => {
            let destination = given("--to", to)?;
            (from.map_or_else(|| own("--from", Some(destination)), Ok)?, destination)
        }
        Direction::Forwarded => (given("--from", from)?, given("--to", to)?),
    };
    if Family::of(source) != Family::of(destination) {
        let message =
            format!("no packet goes from {source} to {destination}: they differ in IP version");
        return Err(Failure::usage(message, "name a receiver of the same version with --to"));
    }
    Ok((source, destination))
}

/// The names of the interfaces by which it comes and goes, as far as they are known.
fn interfaces(
    plan: &HostPlan,
    question: &Question,
    source: IpAddr,
    destination: IpAddr,
) -> Result<(Option<String>, Option<String>), Failure> {
    let direction = question.direction;
    let foreign = match direction {
        Direction::Inbound => question.egress.as_ref().map(|_| ("--egress", "--ingress")),
        Direction::Outbound => question.ingress.as_ref().map(|_| ("--ingress", "--egress")),
        Direction::Forwarded => None,
    };
    if let Some((wrong, right)) = foreign {
        let message = format!("{wrong} is not for {direction} packets");
        return Err(Failure::usage(message, format!("{right} names their interface")));
    }
    // A packet from the host to itself never leaves it.
    let own = |it: IpAddr| it.is_loopback() || plan.addresses.contains(&it);
    let itself =
        |end: Direction, address| (direction == end && own(address)).then(|| LOOPBACK.to_owned());
    let named = |flag: &str, word: &Option<String>| {
        word.as_ref().map(|it| interface(plan, flag, it)).transpose()
    };
    let ingress = named("--ingress", &question.ingress)?;
    let egress = named("--egress", &question.egress)?;
    Ok((
        ingress.or_else(|| itself(Direction::Inbound, source)),
        egress.or_else(|| itself(Direction::Outbound, destination)),
    ))
}

/// An interface's name, for its role or its name. A host that names its interfaces has no others.
fn interface(plan: &HostPlan, flag: &str, word: &str) -> Result<String, Failure> {
    let known = plan.interfaces.iter().find(|it| it.role == word || it.name == word);
    if known.is_none() && !plan.interfaces.is_empty() && word != LOOPBACK {
        let message =
            format!("{flag} {}: `{}` has no such interface", word.escape_debug(), plan.host);
        let words: Vec<String> =
            plan.interfaces.iter().map(|it| format!("{} ({})", it.role, it.name)).collect();
        return Err(Failure::usage(message, format!("its interfaces are: {}", words.join(", "))));
    }
    Ok(known.map_or_else(|| word.to_owned(), |interface| interface.name.clone()))
}

fn one_address(policy: &Policy, flag: &str, text: &str) -> Result<IpAddr, Failure> {
    let source = Source::new(flag, text);
    let set = read_addresses(policy, &source)
        .map_err(|problems| Failure::Input { sources: vec![source], problems })?;
    let of = |family| set.first(family).filter(|&address| set == AddressSet::single(address));
    of(Family::V4).or_else(|| of(Family::V6)).ok_or_else(|| {
        Failure::usage(
            format!("{flag} {text} is more than one address"),
            "a packet has one sender and one receiver; `reach --from` asks for a whole place",
        )
    })
}

/// What it carries.
fn transport(
    policy: &Policy,
    question: &Question,
    family: Family,
) -> Result<(TrafficSet, Transport), Failure> {
    let text = &question.traffic;
    let source = Source::new("--traffic", text);
    let set = read_traffic(policy, &source)
        .map_err(|problems| Failure::Input { sources: vec![source], problems })?;
    if set.ports.values().all(RangeSet::is_empty)
        && types(&set, family).is_empty()
        && set.others.is_empty()
    {
        let message = format!("no packet of {family} carries {text}");
        return Err(Failure::usage(message, "name a sender of the other IP version with --from"));
    }
    let found = single(text, &set, family).ok_or_else(|| {
        Failure::usage(
            format!("--traffic {text} is more than one kind of packet"),
            "ask about one port and protocol such as 443/tcp, one kind of ICMP such as \
             icmp:echo-reply, or another protocol such as proto:47; icmp is an echo request",
        )
    })?;
    let transport = match found {
        Transport::Ports { protocol, destination, .. } => Transport::Ports {
            protocol,
            source: question.source_port.unwrap_or(CLIENT_PORT),
            destination,
        },
        other => other,
    };
    if let (Some(_), None) = (question.source_port, ports(transport)) {
        let message = format!("packets of {text} come from no port");
        return Err(Failure::usage(message, "leave out --source-port"));
    }
    if let (Some(1..), None) = (question.published, ports(transport)) {
        let message = format!("packets of {text} are led here from no port");
        return Err(Failure::usage(message, "leave out --published"));
    }
    if question.published.is_some() && question.direction == Direction::Outbound {
        return Err(Failure::usage(
            "what leaves this host was not led to it",
            "leave out --published, or ask with --direction forwarded",
        ));
    }
    let traffic = match transport {
        Transport::Ports { protocol, destination, .. } => {
            protocol.traffic(RangeSet::single(destination))
        }
        Transport::Icmp { kind } => match family {
            Family::V4 => TrafficSet::icmp(RangeSet::single(kind), RangeSet::empty()),
            Family::V6 => TrafficSet::icmp(RangeSet::empty(), RangeSet::single(kind)),
        },
        Transport::Other { protocol } => {
            TrafficSet { others: RangeSet::single(protocol), ..TrafficSet::empty() }
        }
    };
    Ok((traffic, transport))
}

fn types(set: &TrafficSet, family: Family) -> &RangeSet<u8> {
    if family == Family::V4 { &set.icmp } else { &set.icmpv6 }
}

fn ports(transport: Transport) -> Option<u16> {
    match transport {
        Transport::Ports { destination, .. } => Some(destination),
        _ => None,
    }
}

/// The one kind of packet that a set holds in an IP version.
fn single(text: &str, set: &TrafficSet, family: Family) -> Option<Transport> {
    fn one<T: tipstaff_core::space::Point>(values: &RangeSet<T>) -> Option<T> {
        match values.ranges() {
            [(first, last)] if first == last => Some(*first),
            _ => None,
        }
    }
    if text == "icmp" {
        let kind = if family == Family::V4 { ECHO_REQUEST } else { ECHO_REQUEST_V6 };
        return Some(Transport::Icmp { kind });
    }
    for (protocol, ports) in set.ports.iter() {
        if let Some(destination) = one(ports).filter(|_| *set == protocol.traffic(ports.clone())) {
            return Some(Transport::Ports { protocol, source: CLIENT_PORT, destination });
        }
    }
    let types = types(set, family);
    let rest = TrafficSet { icmp: RangeSet::empty(), icmpv6: RangeSet::empty(), ..set.clone() };
    if rest.is_empty() {
        return one(types).map(|kind| Transport::Icmp { kind });
    }
    let alone = TrafficSet { others: set.others.clone(), ..TrafficSet::empty() };
    one(&set.others).filter(|_| *set == alone).map(|protocol| Transport::Other { protocol })
}
