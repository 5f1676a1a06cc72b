//! Connections that live on though the policy would not admit them any more.

use super::programs::Receivers;
use super::session::Session;
use super::{Failure, Loaded};
use serde::Serialize;
use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::{
    ConnectionState, Direction, Family, ICMP, ICMPV6, Packet, TCP, Transport, UDP,
};
use tipstaff_linux::flows::{self, Flow};
use tipstaff_linux::sockets::{Connection, Owners, PortProtocol, connections};
use tipstaff_linux::{NetlinkSocket, Protocol, addresses, link_towards};

/// What lives on, and what was ended.
#[derive(Debug, Serialize)]
pub struct Report {
    /// The host.
    pub host: String,
    /// Whether they were to be ended.
    pub cut: bool,
    /// The connections.
    pub living: Vec<Living>,
}

/// A connection that the policy would not admit.
#[derive(Debug, Serialize)]
pub struct Living {
    /// `inbound`, `outbound` or `forwarded`, by its first packet.
    pub direction: &'static str,
    /// What it carries, such as `5432/tcp`.
    pub traffic: String,
    /// Who began it.
    pub from: IpAddr,
    /// To whom.
    pub to: IpAddr,
    /// What the policy says of it: `deny` or `reject`.
    pub verdict: &'static str,
    /// Which decision.
    pub by: String,
    /// Whether it is the session that asks, which is never cut.
    pub own_session: bool,
    /// Whether it was ended; `null` if it was not to be.
    pub ended: Option<bool>,
}

/// Finds the connections, and with `cut` ends them.
///
/// # Errors
/// [`Failure`] if the kernel does not let us look, or refuses.
pub fn report(loaded: &Loaded, cut: bool) -> Result<Report, Failure> {
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    let mut diagnosis = NetlinkSocket::open(Protocol::SocketDiagnosis)?;
    let mut living = Vec::new();
    for (flow, direction, mut found) in found(loaded, &mut kernel)? {
        if cut && !found.own_session {
            // The socket first: forgotten alone, it would begin the flow anew.
            let own_is_source = direction == Direction::Outbound;
            if flow.protocol == TCP && direction != Direction::Forwarded {
                flows::end_socket(&mut diagnosis, &flow, own_is_source)?;
            }
            flows::forget(&mut kernel, &flow)?;
            found.ended = Some(true);
        } else if cut {
            found.ended = Some(false);
        }
        living.push(found);
    }
    Ok(Report { host: loaded.plan.host.clone(), cut, living })
}

/// How many connections live on that the policy would not admit.
///
/// # Errors
/// As for [`report`].
pub fn count(loaded: &Loaded) -> Result<usize, Failure> {
    let mut kernel = NetlinkSocket::open(Protocol::Netfilter)?;
    Ok(found(loaded, &mut kernel)?.len())
}

fn found(
    loaded: &Loaded,
    kernel: &mut NetlinkSocket,
) -> Result<Vec<(Flow, Direction, Living)>, Failure> {
    let mut routes = NetlinkSocket::open(Protocol::Route)?;
    let own = addresses(&mut routes)?;
    let session = Session::own();
    let mut links: HashMap<IpAddr, Option<String>> = HashMap::new();
    let mut link = |address: IpAddr| {
        let known = links.entry(address);
        known.or_insert_with(|| link_towards(&mut routes, address).ok().flatten()).clone()
    };
    let holders = Holders::look(loaded)?;
    let mut list = Vec::new();
    for flow in flows::flows(kernel)? {
        let Some((direction, mut packet)) = first_packet(&flow, &own, &mut link) else { continue };
        packet.program = holders.as_ref().and_then(|it| it.program(&flow, direction));
        let decision = loaded.plan.decision(&packet);
        let verdict = decision.act.verdict();
        if verdict == Verdict::Allow {
            continue;
        }
        let words = super::PacketWords::of(&packet);
        let living = Living {
            direction: direction.as_str(),
            traffic: words.traffic(),
            from: flow.source,
            to: flow.destination,
            verdict: verdict.as_str(),
            by: decision.id.to_string(),
            own_session: session.is_some_and(|it| is_session(&flow, &it)),
            ended: None,
        };
        list.push((flow, direction, living));
    }
    Ok(list)
}

/// Which programs of this host the ends of connections belong to.
struct Holders {
    receivers: Receivers,
    connections: Vec<Connection>,
    owners: Owners,
}

impl Holders {
    /// Looks, if rules name any program.
    fn look(loaded: &Loaded) -> Result<Option<Self>, Failure> {
        if loaded.program.program_lists().is_empty() {
            return Ok(None);
        }
        let mut diagnosis = NetlinkSocket::open(Protocol::SocketDiagnosis)?;
        Ok(Some(Self {
            receivers: Receivers::look(loaded)?,
            connections: connections(&mut diagnosis)?,
            owners: Owners::look(),
        }))
    }

    /// The program that the first packet of a flow would belong to: of who listens, or of who
    /// began it.
    fn program(&self, flow: &Flow, direction: Direction) -> Option<String> {
        let (own_port, port) = flow.ports?;
        let protocol = if flow.protocol == TCP { PortProtocol::Tcp } else { PortProtocol::Udp };
        match direction {
            Direction::Inbound => self.receivers.at(protocol, port),
            Direction::Outbound => {
                let own = SocketAddr::new(flow.source, own_port);
                let peer = SocketAddr::new(flow.destination, port);
                let mut connections = self.connections.iter();
                let found = connections.find(|it| (it.own, it.peer) == (own, peer));
                match found {
                    Some(found) => self.receivers.names.known(found.owner(&self.owners)),
                    // One that sends without having chosen a partner.
                    None => self.receivers.at(protocol, own_port),
                }
            }
            Direction::Forwarded => None,
        }
    }
}

fn is_session(flow: &Flow, session: &Session) -> bool {
    (flow.source, flow.destination) == (session.client, session.server)
        && flow.ports == Some((session.client_port, session.port))
}

/// The packet with which a flow would begin again; `None` for what stays on this machine.
fn first_packet(
    flow: &Flow,
    own: &[IpAddr],
    link: &mut impl FnMut(IpAddr) -> Option<String>,
) -> Option<(Direction, Packet)> {
    let (source, destination) = (flow.source, flow.destination);
    let here = |address: &IpAddr| address.is_loopback() || own.contains(address);
    let (direction, in_interface, out_interface) = match (here(&source), here(&destination)) {
        (true, true) => return None,
        (false, true) => (Direction::Inbound, link(source), None),
        (true, false) => (Direction::Outbound, None, link(destination)),
        (false, false) => (Direction::Forwarded, link(source), link(destination)),
    };
    let transport = match (flow.protocol, flow.ports, flow.icmp_type) {
        (TCP, Some((source, destination)), _) => Transport::Tcp { source, destination },
        (UDP, Some((source, destination)), _) => Transport::Udp { source, destination },
        (ICMP | ICMPV6, _, Some(kind)) => Transport::Icmp { kind },
        (protocol, ..) => Transport::Other { protocol },
    };
    (Family::of(source) == Family::of(destination)).then_some((
        direction,
        Packet {
            direction,
            in_interface,
            out_interface,
            source,
            destination,
            transport,
            state: ConnectionState::New,
            program: None,
        },
    ))
}
