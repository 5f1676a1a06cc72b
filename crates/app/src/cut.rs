//! Connections that live on though the rules in force would not admit them any more.
//!
//! Which they are is told by the kernel's list of sockets, which is exact for TCP, and beside it by
//! connection tracking, for all that has no socket of its own here.

use super::receivers::Receivers;
use super::{Failure, PacketWords, now};
use crate::Outcome;
use crate::vocabulary as say;
use serde::Serialize;
use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, SocketAddr};
use tipstaff_core::plan::{Decided, RuleId, TURNED_AWAY};
use tipstaff_core::policy::Verdict;
use tipstaff_core::program::RuleProgram;
use tipstaff_core::space::{
    ConnectionState, Direction, Family, ICMP, ICMPV6, Packet, Relation, TCP, Transport, UDP,
};
use tipstaff_linux::flows::{self, Flow};
use tipstaff_linux::ruleset::{Tuple, keep_quiet};
use tipstaff_linux::sockets::{Connection, Listener, Owners, PortProtocol};
use tipstaff_linux::{LinuxError, Machine, NetlinkSocket, Protocol, Session};

/// The ports from which the system has clients speak (ip(7)).
pub(crate) const CLIENT_PORTS: &str = "/proc/sys/net/ipv4/ip_local_port_range";

/// What lives on, and what was ended.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The host whose rules are in force.
    pub host: String,
    /// Whether they were to be ended.
    pub cut: bool,
    /// The connections that the rules in force would not admit.
    pub living: Vec<Living>,
    /// What could not be looked at: connections of it may live on too.
    pub unknown: Vec<String>,
}

impl Report {
    /// How it ended: well, unless something goes on that was to be ended.
    pub fn outcome(&self) -> Outcome {
        let left = self.living.iter().any(|it| it.ended == Some(false) && !it.own_session);
        if left { Outcome::Found } else { Outcome::Fine }
    }
}

/// A connection that the rules in force would not admit.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Living {
    /// `inbound`, `outbound` or `forwarded`, by its first packet.
    pub direction: say::Direction,
    /// What it carries, such as `5432/tcp`.
    pub traffic: String,
    /// The address of who began the connection.
    pub from: IpAddr,
    /// The address to which it was begun.
    pub to: IpAddr,
    /// What the rules say of it: `deny` or `reject`.
    pub verdict: say::Verdict,
    /// The name of the decision that would not admit it.
    pub by: String,
    /// Whether it is the session that asks, which is never cut.
    pub own_session: bool,
    /// Whether it was ended; `null` if it was not to be.
    pub ended: Option<bool>,
    /// Why it was not ended, though it was to be.
    pub why_not: Option<String>,
}

/// What a connection is made of here.
struct Found {
    living: Living,
    /// Its first packet's ends, for protocols with ports.
    tuple: Option<Tuple>,
    /// Its socket, if it has one of its own.
    socket: Option<Connection>,
    /// What connection tracking remembers of it.
    flows: Vec<Flow>,
}

/// Which of the connections that the rules in force would not admit are to be ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum End {
    /// None: they are only listed.
    None,
    /// Those of addresses that are turned away; others are not listed either.
    OfTurnedAway,
    /// All of them.
    All,
}

/// Finds the connections that the rules in force would not admit, and ends those that are to be ended.
/// Listening sockets are never touched.
///
/// # Errors
/// [`Failure`] if no rules are in force, or the kernel does not let us look.
pub fn report(machine: &dyn Machine, ends: End) -> Result<Report, Failure> {
    let held = machine.rules()?.filter(|it| !it.dormant);
    let Some(held) = held else {
        return Err(Failure::Stopped {
            message: "no rules are in force, so all that lives on is admitted".into(),
            help: vec!["`tipstaff enforce` puts rules in force".into()],
        });
    };
    // What has ended by now decides nothing.
    let (mut found, unknown) = found(machine, &held.program.at(now()))?;
    if ends == End::OfTurnedAway {
        let by = RuleId::baseline(TURNED_AWAY).to_string();
        found.retain(|it| it.living.by == by);
    }
    if ends != End::None {
        end(machine, &mut found)?;
    }
    let living = found.into_iter().map(|it| it.living).collect();
    Ok(Report { host: held.host, cut: ends != End::None, living, unknown })
}

/// Finds the connections that the rules in force would not admit, and that those before did; ends them if wished.
///
/// # Errors
/// As for [`report`].
pub fn admitted_only_before(
    machine: &dyn Machine,
    before: &RuleProgram,
    cut: bool,
) -> Result<Report, Failure> {
    let Some(held) = machine.rules()?.filter(|it| !it.dormant) else {
        return Err(Failure::stopped("no rules are in force", Vec::new()));
    };
    let (mut found, unknown) = found(machine, &held.program.at(now()))?;
    let which = |it: &Living| (it.direction, it.traffic.clone(), it.from, it.to);
    let not_before: HashSet<_> =
        self::found(machine, before)?.0.iter().map(|it| which(&it.living)).collect();
    found.retain(|it| !not_before.contains(&which(&it.living)));
    if cut {
        end(machine, &mut found)?;
    }
    let living = found.into_iter().map(|it| it.living).collect();
    Ok(Report { host: held.host, cut, living, unknown })
}

/// How many connections live on that the rules would not admit.
///
/// # Errors
/// As for [`report`].
pub fn count(machine: &dyn Machine, rules: &RuleProgram) -> Result<usize, Failure> {
    Ok(found(machine, rules)?.0.len())
}

fn end(machine: &dyn Machine, found: &mut [Found]) -> Result<(), Failure> {
    let mut kernel = machine.channel(Protocol::Netfilter)?;
    let mut diagnosis = machine.channel(Protocol::SocketDiagnosis)?;
    // First nothing of them passes any more; else a packet could begin them anew in between.
    let others = || found.iter().filter(|it| !it.living.own_session);
    let quiet: Vec<Tuple> =
        others().filter(|it| !it.is_own_tcp()).filter_map(|it| it.tuple).collect();
    let quieted = keep_quiet(&mut kernel, &quiet).map_err(|error| error.to_string());
    for it in found.iter_mut() {
        if it.living.own_session {
            it.living.ended = Some(false);
            continue;
        }
        let ended = it.end(&mut kernel, &mut diagnosis, quieted.as_ref().err());
        it.living.ended = Some(ended.is_ok());
        it.living.why_not = ended.err();
    }
    Ok(())
}

impl Found {
    /// Whether it is a TCP connection of this host, which its socket ends for good.
    fn is_own_tcp(&self) -> bool {
        self.socket.as_ref().is_some_and(|it| it.protocol == PortProtocol::Tcp)
    }

    fn end(
        &self,
        kernel: &mut NetlinkSocket,
        diagnosis: &mut NetlinkSocket,
        not_quiet: Option<&String>,
    ) -> Result<(), String> {
        let mut why_not = not_quiet.filter(|_| self.tuple.is_some()).cloned();
        if let Some(socket) = self.socket.as_ref().filter(|_| self.is_own_tcp()) {
            why_not = flows::end_socket(diagnosis, socket).err().map(|it| it.to_string());
            if let (Some(_), Some(tuple)) = (&why_not, self.tuple) {
                // This kernel does not end sockets: but nobody hears of it any more.
                why_not = keep_quiet(kernel, &[tuple]).err().map(|it| it.to_string());
            }
        }
        for flow in &self.flows {
            let forgotten = flows::forget(kernel, flow).err().map(|it| it.to_string());
            why_not = why_not.or(forgotten);
        }
        why_not.map_or(Ok(()), Err)
    }
}

/// What is known of this machine while its connections are judged.
struct Here<'r> {
    rules: &'r RuleProgram,
    own: Vec<IpAddr>,
    session: Option<Session>,
    listeners: Vec<Listener>,
    receivers: Receivers,
    owners: Owners,
    machine: &'r dyn Machine,
    links: HashMap<IpAddr, Option<String>>,
    /// The ports that the kernel gives to those who ask for none.
    clients: (u16, u16),
}

fn found(machine: &dyn Machine, rules: &RuleProgram) -> Result<(Vec<Found>, Vec<String>), Failure> {
    let connections = machine.open_connections()?;
    let unknown = connections.unseen().collect();
    let mut here = Here {
        rules,
        own: machine.addresses()?,
        session: machine.own_session(),
        listeners: machine.listeners()?.found,
        receivers: Receivers::of_rules(machine, rules)?,
        owners: machine.owners(),
        machine,
        links: HashMap::new(),
        clients: client_ports(machine),
    };
    // Who keeps track of nothing has no flows.
    let tracked = match machine.flows() {
        Err(error @ LinuxError::NotPermitted { .. }) => return Err(error.into()),
        other => other.unwrap_or_default(),
    };
    let mut list = Vec::new();
    let mut seen: HashSet<(u8, SocketAddr, SocketAddr)> = HashSet::new();
    for socket in connections.found {
        let protocol = socket.protocol.number();
        let ends = (protocol, socket.own, socket.peer);
        if protocol == TCP {
            seen.insert(ends);
        }
        let its: Vec<Flow> = tracked.iter().filter(|it| is_of(it, ends)).cloned().collect();
        if let Some(found) = here.judge_socket(socket, its) {
            seen.insert(ends);
            list.push(found);
        }
    }
    for flow in tracked.into_iter().filter(|it| !it.is_over()) {
        list.extend(here.judge_flow(flow, &seen));
    }
    Ok((list, unknown))
}

/// Whether a flow is that between these ends, this host's first.
fn is_of(flow: &Flow, (protocol, own, peer): (u8, SocketAddr, SocketAddr)) -> bool {
    let Some((source, destination)) = ends(flow) else { return false };
    flow.protocol == protocol
        && ((source, destination) == (own, peer) || (source, destination) == (peer, own))
}

/// The ends of a flow, who began it first.
fn ends(flow: &Flow) -> Option<(SocketAddr, SocketAddr)> {
    let (source, destination) = flow.ports?;
    Some((SocketAddr::new(flow.source, source), SocketAddr::new(flow.destination, destination)))
}

/// `net.ipv4.ip_local_port_range`, for both versions.
fn client_ports(machine: &dyn Machine) -> (u16, u16) {
    let text = machine.setting(CLIENT_PORTS).unwrap_or_default();
    let mut words = text.split_whitespace().map(|it| it.parse().ok());
    match (words.next().flatten(), words.next().flatten()) {
        (Some(first), Some(last)) => (first, last),
        _ => (32_768, 60_999),
    }
}

impl Here<'_> {
    fn is_own(&self, address: IpAddr) -> bool {
        address.is_loopback() || self.own.contains(&address)
    }

    fn relation(&self, address: IpAddr) -> Relation {
        Relation { own: self.is_own(address), on_link: self.rules.on_link.contains(address) }
    }

    fn link(&mut self, address: IpAddr) -> Option<String> {
        let machine = self.machine;
        let known = self.links.entry(address);
        known.or_insert_with(|| machine.way_to(address).ok().and_then(|it| it.link)).clone()
    }

    /// Whether somebody waits at that port for whoever comes.
    fn serves(&self, protocol: PortProtocol, port: u16) -> bool {
        let for_clients = (self.clients.0..=self.clients.1).contains(&port);
        let listens = self.listeners.iter().any(|it| (it.protocol, it.port) == (protocol, port));
        // A UDP socket that asks others a question waits for answers in just the same way.
        listens && (protocol != PortProtocol::Udp || !for_clients)
    }

    fn judge_socket(&mut self, socket: Connection, flows: Vec<Flow>) -> Option<Found> {
        let (own, peer) = (socket.own, socket.peer);
        if self.is_own(peer.ip()) {
            return None;
        }
        let begun_here = flows.first().and_then(ends).map(|(source, _)| source == own);
        let inbound = self.serves(socket.protocol, own.port())
            || match begun_here {
                Some(begun_here) => !begun_here,
                None => !(self.clients.0..=self.clients.1).contains(&own.port()),
            };
        let (source, destination) = if inbound { (peer, own) } else { (own, peer) };
        let protocol = socket.protocol;
        let whose = match inbound {
            true => self.receivers.at(protocol, own),
            false => {
                let owner = socket.owner(&self.owners);
                self.receivers.names.whose(owner, socket.uid(), socket.mark())
            }
        };
        let packet = self.packet(protocol, source, destination, inbound);
        let packet = Packet { program: whose.program, user: whose.user, ..packet };
        let decided = self.denied(&packet)?;
        let living = self.living(&packet, &decided);
        Some(Found {
            living,
            tuple: Some(tuple(protocol, source, destination)),
            socket: Some(socket),
            flows,
        })
    }

    fn packet(
        &mut self,
        protocol: PortProtocol,
        source: SocketAddr,
        destination: SocketAddr,
        inbound: bool,
    ) -> Packet {
        let (from, to) = (source.port(), destination.port());
        let transport = Transport::Ports { protocol, source: from, destination: to };
        Packet {
            direction: if inbound { Direction::Inbound } else { Direction::Outbound },
            in_interface: if inbound { self.link(source.ip()) } else { None },
            out_interface: if inbound { None } else { self.link(destination.ip()) },
            source: source.ip(),
            destination: destination.ip(),
            transport,
            state: ConnectionState::New,
            program: None,
            user: None,
            source_is: self.relation(source.ip()),
            destination_is: self.relation(destination.ip()),
        }
    }

    fn judge_flow(
        &mut self,
        flow: Flow,
        seen: &HashSet<(u8, SocketAddr, SocketAddr)>,
    ) -> Option<Found> {
        let (source, destination) = (flow.source, flow.destination);
        let (from_here, to_here) = (self.is_own(source), self.is_own(destination));
        if from_here && to_here {
            return None;
        }
        if let Some((first, second)) = ends(&flow)
            && [(first, second), (second, first)]
                .iter()
                .any(|(own, peer)| seen.contains(&(flow.protocol, *own, *peer)))
        {
            return None;
        }
        // A TCP connection of this host without a socket is none any more.
        if flow.protocol == TCP && (from_here || to_here) {
            return None;
        }
        if let Some((first, second)) = ends(&flow)
            && flow.protocol == UDP
            && (from_here || to_here)
        {
            return self.judge_datagrams(flow, first, second, from_here);
        }
        let direction = match (from_here, to_here) {
            (false, true) => Direction::Inbound,
            (true, _) => Direction::Outbound,
            (false, false) => Direction::Forwarded,
        };
        let transport = match (PortProtocol::of_number(flow.protocol), flow.ports, flow.icmp_type) {
            (Some(protocol), Some((source, destination)), _) => {
                Transport::Ports { protocol, source, destination }
            }
            (None, _, Some(kind)) if matches!(flow.protocol, ICMP | ICMPV6) => {
                Transport::Icmp { kind }
            }
            _ => Transport::Other { protocol: flow.protocol },
        };
        if Family::of(source) != Family::of(destination) {
            return None;
        }
        let inbound = direction != Direction::Outbound;
        let packet = Packet {
            direction,
            in_interface: if inbound { self.link(source) } else { None },
            out_interface: match direction {
                Direction::Inbound => None,
                _ => self.link(destination),
            },
            source,
            destination,
            transport,
            state: ConnectionState::New,
            program: None,
            user: None,
            source_is: self.relation(source),
            destination_is: self.relation(destination),
        };
        let decided = self.denied(&packet)?;
        let living = self.living(&packet, &decided);
        let tuple = flow.ports.map(|(source_port, destination_port)| Tuple {
            protocol: flow.protocol,
            source: (source, source_port),
            destination: (destination, destination_port),
        });
        Some(Found { living, tuple, socket: None, flows: vec![flow] })
    }

    /// Who spoke first says little over UDP: a server may speak by itself, and whoever it speaks to is
    /// then answered as if it had been asked.
    fn judge_datagrams(
        &mut self,
        flow: Flow,
        first: SocketAddr,
        second: SocketAddr,
        begun_here: bool,
    ) -> Option<Found> {
        let (own, peer) = if begun_here { (first, second) } else { (second, first) };
        let serves = self.serves(PortProtocol::Udp, own.port()) && own.port() != peer.port();
        let inbound = !begun_here || serves;
        let (source, destination) = if inbound { (peer, own) } else { (own, peer) };
        let packet = self.packet(PortProtocol::Udp, source, destination, inbound);
        let whose = self.receivers.at(PortProtocol::Udp, own);
        let packet = Packet { program: whose.program, user: whose.user, ..packet };
        let decided = self.denied(&packet)?;
        let living = self.living(&packet, &decided);
        let tuple = Some(tuple(PortProtocol::Udp, source, destination));
        Some(Found { living, tuple, socket: None, flows: vec![flow] })
    }

    /// What the rules say of a packet, if they do not let it pass. What cannot be told is left alone.
    fn denied(&self, packet: &Packet) -> Option<Decided> {
        self.rules.evaluate(packet).filter(|it| it.verdict != Verdict::Allow)
    }

    fn living(&self, packet: &Packet, decided: &Decided) -> Living {
        let own_session = self.session.is_some_and(|session| {
            let ports = Some((session.client_port, session.port));
            (packet.source, packet.destination) == (session.client, session.server)
                && packet.ports() == ports
        });
        Living {
            direction: packet.direction.into(),
            traffic: PacketWords::of(packet).traffic(),
            from: packet.source,
            to: packet.destination,
            verdict: decided.verdict.into(),
            by: decided.by.to_string(),
            own_session,
            ended: None,
            why_not: None,
        }
    }
}

fn tuple(protocol: PortProtocol, source: SocketAddr, destination: SocketAddr) -> Tuple {
    Tuple {
        protocol: protocol.number(),
        source: (source.ip(), source.port()),
        destination: (destination.ip(), destination.port()),
    }
}
