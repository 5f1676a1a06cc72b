//! `ask`: what happens to one packet, and why.

use super::{By, Failure, Loaded, PacketWords};
use crate::vocabulary as say;
use serde::Serialize;
use std::net::IpAddr;
use tipstaff_core::plan::{HostPlan, Idle, LOOPBACK, Step};
use tipstaff_core::policy::{Policy, Source, Verdict, read_addresses, read_traffic};
use tipstaff_core::space::{
    AddressSet, ConnectionState, Direction, Family, Packet, Transport, closest,
};

/// A port that clients are given by their system (RFC 6335 section 6).
const CLIENT_PORT: u16 = 49_152;
const ECHO_REQUEST: u8 = 8;
const ECHO_REQUEST_V6: u8 = 128;

/// What is asked, as typed.
#[derive(Clone, Debug)]
pub struct Question {
    /// The address that it comes from.
    pub from: Option<String>,
    /// The address that it goes to.
    pub to: Option<String>,
    /// The traffic term for what it carries.
    pub traffic: String,
    /// By which interface it comes in, by role or name.
    pub ingress: Option<String>,
    /// By which interface it goes out, by role or name.
    pub egress: Option<String>,
    /// The executable of the socket that receives or sends it.
    pub program: Option<String>,
    /// Which way it goes, seen from the host.
    pub direction: Direction,
}

/// What becomes of a packet, and why.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host that the packet is about.
    pub host: String,
    /// The packet asked about.
    pub packet: PacketWords,
    /// `allow`, `deny` or `reject`.
    pub verdict: say::Verdict,
    /// Whether that holds only up to a rate.
    pub limited: bool,
    /// Whether the sender is told of a refusal.
    pub answered: bool,
    /// The decision that says so.
    pub decided_by: By,
    /// Every decision looked at, in order; the last one decides.
    pub path: Vec<PathStep>,
}

/// A decision on the way.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PathStep {
    /// What the decision does to the packet.
    #[serde(flatten)]
    pub by: By,
    /// What it would do, or does.
    pub verdict: say::Verdict,
    /// Whether it takes the packet.
    pub takes: bool,
    /// Why it does not.
    pub because: Option<String>,
}

/// Answers the question.
///
/// # Errors
/// [`Failure`] if an argument cannot be understood.
pub fn report(loaded: &Loaded, question: &Question) -> Result<Report, Failure> {
    let plan = &loaded.plan;
    let packet = packet(loaded, question)?;
    let path = plan.explain(&packet);
    let decided = plan.evaluate(&packet);
    Ok(Report {
        host: plan.host.clone(),
        packet: PacketWords::of(&packet),
        verdict: decided.verdict.into(),
        limited: decided.limited,
        answered: decided.verdict == Verdict::Reject && packet.may_be_answered(),
        decided_by: By::of(&decided.by, plan),
        path: path.iter().map(|step| path_step(step, loaded)).collect(),
    })
}

fn path_step(step: &Step<'_>, loaded: &Loaded) -> PathStep {
    let because = match step.miss {
        _ if step.decision.idle == Some(Idle::Paused) => Some("paused".to_owned()),
        _ if step.decision.idle == Some(Idle::WithoutPrograms) => {
            Some("left out: programs are not told apart".to_owned())
        }
        _ if step.decision.idle.is_some() => Some("ended".to_owned()),
        miss => miss.map(|miss| miss.to_string()),
    };
    PathStep {
        by: By::of(&step.decision.id, &loaded.plan),
        verdict: step.decision.act.verdict().into(),
        takes: because.is_none(),
        because,
    }
}

/// Makes up the packet: what is left out is put in as it would usually be.
fn packet(loaded: &Loaded, question: &Question) -> Result<Packet, Failure> {
    let direction = question.direction;
    let read = |flag, text: &Option<String>| {
        text.as_ref().map(|text| one_address(&loaded.policy, flag, text)).transpose()
    };
    let (from, to) = (read("--from", &question.from)?, read("--to", &question.to)?);
    let own = |other: Option<IpAddr>| {
        let mut addresses = loaded.plan.addresses.iter().copied();
        match other {
            Some(other) => closest(addresses, other),
            None => addresses.next(),
        }
    };
    let (source, destination) = match direction {
        Direction::Inbound => (from, to.or_else(|| own(from))),
        Direction::Outbound => (from.or_else(|| own(to)), to),
        Direction::Forwarded => (from, to),
    };
    let missing = |flag: &str| {
        Failure::usage(
            format!("{flag} is missing"),
            format!("a question about {direction} traffic needs {flag} ADDRESS"),
        )
    };
    let source = source.ok_or_else(|| missing("--from"))?;
    let destination = destination.ok_or_else(|| missing("--to"))?;
    if Family::of(source) != Family::of(destination) {
        let message =
            format!("no packet goes from {source} to {destination}: they differ in IP version");
        return Err(Failure::usage(message, "name a receiver of the same version with --to"));
    }
    // A packet from the host to itself never leaves it.
    let to_itself = source.is_loopback() || loaded.plan.addresses.contains(&source);
    let itself = || (direction == Direction::Inbound && to_itself).then(|| LOOPBACK.to_owned());
    let named = |word: &Option<String>| word.as_ref().map(|it| interface(&loaded.plan, it));
    let foreign = match direction {
        Direction::Inbound => question.egress.as_ref().map(|_| ("--egress", "--ingress")),
        Direction::Outbound => question.ingress.as_ref().map(|_| ("--ingress", "--egress")),
        Direction::Forwarded => None,
    };
    if let Some((wrong, right)) = foreign {
        let message = format!("{wrong} is not for {direction} packets");
        return Err(Failure::usage(message, format!("{right} names their interface")));
    }
    let in_interface = named(&question.ingress).or_else(itself);
    let out_interface = named(&question.egress);
    let packet = Packet {
        direction,
        in_interface,
        out_interface,
        source,
        destination,
        transport: transport(&loaded.policy, &question.traffic, Family::of(source))?,
        state: ConnectionState::New,
        program: question.program.clone(),
    };
    match which_interface(&loaded.plan, &packet) {
        Some(failure) => Err(failure),
        None => Ok(packet),
    }
}

/// An answer that depends on an interface which was not named would be a guess.
fn which_interface(plan: &HostPlan, packet: &Packet) -> Option<Failure> {
    let apart = plan.interfaces_told_apart(packet.direction);
    let fate = plan.evaluate(packet);
    let differs = |flag: &str, packets: Vec<Packet>| {
        packets.iter().any(|other| plan.evaluate(other) != fate).then(|| {
            Failure::usage(
                format!("the answer depends on the interface: {flag} is missing"),
                format!("the rules name: {}", apart.join(", ")),
            )
        })
    };
    let names = || apart.iter().cloned().map(Some);
    let incoming = packet.in_interface.is_none() && packet.direction != Direction::Outbound;
    let outgoing = packet.out_interface.is_none() && packet.direction != Direction::Inbound;
    let ins = names().map(|it| Packet { in_interface: it, ..packet.clone() }).collect();
    let outs = names().map(|it| Packet { out_interface: it, ..packet.clone() }).collect();
    incoming
        .then(|| differs("--ingress", ins))
        .flatten()
        .or_else(|| outgoing.then(|| differs("--egress", outs)).flatten())
}

/// An interface's name, for its role or its name.
fn interface(plan: &HostPlan, word: &str) -> String {
    let role = plan.interfaces.iter().find(|interface| interface.role == word);
    role.map_or_else(|| word.to_owned(), |interface| interface.name.clone())
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

fn transport(policy: &Policy, text: &str, family: Family) -> Result<Transport, Failure> {
    let source = Source::new("--traffic", text);
    let set = read_traffic(policy, &source)
        .map_err(|problems| Failure::Input { sources: vec![source], problems })?;
    let one = |ports: &tipstaff_core::space::RangeSet<u16>| match ports.ranges() {
        [(first, last)] if first == last => Some(*first),
        _ => None,
    };
    let client = CLIENT_PORT;
    for (protocol, ports) in set.ports.iter() {
        if let Some(destination) = one(ports).filter(|_| set == protocol.traffic(ports.clone())) {
            return Ok(Transport::Ports { protocol, source: client, destination });
        }
    }
    if text == "icmp" {
        let kind = match family {
            Family::V4 => ECHO_REQUEST,
            Family::V6 => ECHO_REQUEST_V6,
        };
        return Ok(Transport::Icmp { kind });
    }
    Err(Failure::usage(
        format!("--traffic {text} is more than one kind of packet"),
        "ask about one port and protocol such as 443/tcp, or icmp for an echo request",
    ))
}
