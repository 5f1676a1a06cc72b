//! Which connections the rules would not admit.

use super::found::{Found, Living};
use crate::receivers::Receivers;
use crate::{Failure, PacketWords};
use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, SocketAddr};
use tipstaff_core::plan::Decided;
use tipstaff_core::policy::Verdict;
use tipstaff_core::program::RuleProgram;
use tipstaff_core::space::{
    ConnectionState, Direction, Family, ICMP, ICMPV6, Packet, Relation, TCP, Transport, UDP,
};
use tipstaff_linux::flows::Flow;
use tipstaff_linux::ruleset::Tuple;
use tipstaff_linux::sockets::{Connection, Listener, Owners, PortProtocol};
use tipstaff_linux::{LinuxError, Machine, Session};

/// The ports from which the system has clients speak (ip(7)).
pub(crate) const CLIENT_PORTS: &str = "/proc/sys/net/ipv4/ip_local_port_range";

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

/// The connections that the rules would not admit, and what could not be looked at.
///
/// # Errors
/// [`Failure`] if the kernel does not let us look.
pub(super) fn found(
    machine: &dyn Machine,
    rules: &RuleProgram,
) -> Result<(Vec<Found>, Vec<String>), Failure> {
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

/// The ends of a flow, who began it first; where it was led elsewhere, the end there.
fn ends(flow: &Flow) -> Option<(SocketAddr, SocketAddr)> {
    let (source, destination) = flow.ports?;
    let (to, port) = flow.goes_to();
    let there = SocketAddr::new(to, port.unwrap_or(destination));
    Some((SocketAddr::new(flow.source, source), there))
}

/// The tuples of what was begun so and is remembered by these flows.
fn tuples(
    protocol: PortProtocol,
    source: SocketAddr,
    destination: SocketAddr,
    flows: &[Flow],
) -> Vec<Tuple> {
    let mut all = vec![tuple(protocol, source, destination)];
    let asked = flows.iter().filter(|it| it.asked().is_some()).filter_map(|it| {
        let (source, destination) = it.ports?;
        let asked = SocketAddr::new(it.destination, destination);
        Some(tuple(protocol, SocketAddr::new(it.source, source), asked))
    });
    all.extend(asked);
    all
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
        let asked = flows.first().and_then(Flow::asked).filter(|_| inbound);
        let packet = Packet { program: whose.program, user: whose.user, asked, ..packet };
        let decided = self.denied(&packet)?;
        let living = self.living(&packet, &decided);
        Some(Found {
            living,
            tuples: tuples(protocol, source, destination, &flows),
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
            asked: None,
            source_is: self.relation(source.ip()),
            destination_is: self.relation(destination.ip()),
        }
    }

    fn judge_flow(
        &mut self,
        flow: Flow,
        seen: &HashSet<(u8, SocketAddr, SocketAddr)>,
    ) -> Option<Found> {
        let (source, destination) = (flow.source, flow.goes_to().0);
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
            (Some(protocol), Some((source, asked)), _) => {
                let destination = flow.goes_to().1.unwrap_or(asked);
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
            asked: flow.asked().filter(|_| inbound),
            source_is: self.relation(source),
            destination_is: self.relation(destination),
        };
        let decided = self.denied(&packet)?;
        let living = self.living(&packet, &decided);
        let flows = vec![flow];
        let tuples = match packet.transport {
            Transport::Ports { protocol, source: from, destination: to } => {
                let (source, to) =
                    (SocketAddr::new(source, from), SocketAddr::new(destination, to));
                tuples(protocol, source, to, &flows)
            }
            _ => Vec::new(),
        };
        Some(Found { living, tuples, socket: None, flows })
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
        let asked = flow.asked().filter(|_| inbound);
        let packet = Packet { program: whose.program, user: whose.user, asked, ..packet };
        let decided = self.denied(&packet)?;
        let living = self.living(&packet, &decided);
        let flows = vec![flow];
        let tuples = tuples(PortProtocol::Udp, source, destination, &flows);
        Some(Found { living, tuples, socket: None, flows })
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
