//! Whether a remote shell session could be opened again: the whole way there and back.

use crate::plan::{Act, Decision, HostPlan};
use crate::policy::{Rate, Verdict};
use crate::space::{ConnectionState, Direction, Packet, PortProtocol, Relation, Transport};
use std::net::{IpAddr, Ipv6Addr};

/// Neighbour solicitation and advertisement (RFC 4861 sections 4.3 and 4.4).
const NEIGHBOURS: [u8; 2] = [135, 136];
/// A speaker on the link that nobody knows better.
const ON_LINK: Ipv6Addr = Ipv6Addr::new(0xfe80, 0, 0, 0, 0, 0, 0, 1);
/// So many connections within a minute: one to try, one to work in, one to mend.
const NEEDED: u32 = 3;

/// A session, as far as it matters for opening it again.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Session {
    /// The client's address and port.
    pub client: (IpAddr, u16),
    /// The server's address and port.
    pub server: (IpAddr, u16),
    /// The interface by which the client's packets come in; `None` if it is not known.
    pub interface: Option<String>,
    /// The program that listens at the port, by the name that rules have for it.
    pub program: Option<String>,
    /// The user whose the listener's socket is, likewise.
    pub user: Option<String>,
}

/// Which part of the way is barred.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Part {
    /// The packet that opens the connection.
    Opening,
    /// The client's further packets.
    Onward,
    /// The answers of the server.
    Answers,
    /// What IPv6 needs to find the neighbour on the link.
    Neighbours,
    /// The rate is too small.
    Rate(Rate),
}

/// What stands in the way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Obstacle<'p> {
    /// Which part of the way it bars.
    pub part: Part,
    /// The packet that is stopped.
    pub packet: Packet,
    /// The decision that stops it.
    pub decision: &'p Decision,
}

/// What would keep the session from being opened again, if anything would.
#[must_use]
pub fn obstacle<'p>(plan: &'p HostPlan, session: &Session) -> Option<Obstacle<'p>> {
    let barred = |part: Part, packet: Packet| {
        let mut packet = plan.related(packet);
        match packet.direction {
            Direction::Inbound => packet.destination_is.own = plan.moving,
            _ => packet.source_is.own = plan.moving,
        }
        let decision = plan.decision(&packet);
        let part = match decision.act {
            Act::Decide(Verdict::Allow) => return None,
            Act::AllowWithin(rate) if part == Part::Opening => {
                let in_a_minute = rate.burst.saturating_add(60 * rate.count / rate.seconds);
                if in_a_minute >= NEEDED {
                    return None;
                }
                Part::Rate(rate)
            }
            // A rate on packets beyond the first is no way to work.
            Act::AllowWithin(rate) => Part::Rate(rate),
            Act::Decide(_) => part,
        };
        Some(Obstacle { part, packet, decision })
    };
    let tcp = |(_, source), (_, destination)| Transport::Ports {
        protocol: PortProtocol::Tcp,
        source,
        destination,
    };
    let there = |transport, state| packet(session, Direction::Inbound, transport, state);
    let back = |transport, state| packet(session, Direction::Outbound, transport, state);
    let (client, server) = (session.client, session.server);
    barred(Part::Opening, there(tcp(client, server), ConnectionState::New))
        .or_else(|| barred(Part::Onward, there(tcp(client, server), ConnectionState::Established)))
        .or_else(|| barred(Part::Answers, back(tcp(server, client), ConnectionState::Established)))
        .or_else(|| {
            if server.0.is_ipv4() {
                return None;
            }
            let link = Session { client: (on_link(client.0), 0), ..session.clone() };
            NEIGHBOURS.into_iter().find_map(|kind| {
                let icmp = Transport::Icmp { kind };
                [Direction::Inbound, Direction::Outbound].into_iter().find_map(|direction| {
                    let packet = packet(&link, direction, icmp, ConnectionState::Untracked);
                    barred(Part::Neighbours, packet)
                })
            })
        })
}

/// Who asks for the hardware address: the client if it is on the link, else some router.
fn on_link(client: IpAddr) -> IpAddr {
    match client {
        IpAddr::V6(client) if client.is_unicast_link_local() => client.into(),
        _ => ON_LINK.into(),
    }
}

fn packet(
    session: &Session,
    direction: Direction,
    transport: Transport,
    state: ConnectionState,
) -> Packet {
    let (client, server) = (session.client.0, session.server.0);
    let inbound = direction == Direction::Inbound;
    let interface = session.interface.clone();
    Packet {
        direction,
        in_interface: interface.clone().filter(|_| inbound),
        out_interface: interface.filter(|_| !inbound),
        source: if inbound { client } else { server },
        destination: if inbound { server } else { client },
        transport,
        state,
        program: session.program.clone(),
        user: session.user.clone(),
        asked: None,
        source_is: Relation::default(),
        destination_is: Relation::default(),
    }
}
