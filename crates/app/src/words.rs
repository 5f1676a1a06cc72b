//! Parts that several reports share.

use crate::Written;
use crate::vocabulary as say;
use serde::Serialize;
use std::net::{IpAddr, Ipv4Addr};
use tipstaff_core::plan::{Decision, HostPlan, RuleId};
use tipstaff_core::space::{
    ConnectionState, Direction, Family, Packet, PortProtocol, Relation, Transport,
};

/// Who decides: a rule, a part of the baseline, or a default.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct By {
    /// `baseline`, `rule` or `default`.
    pub kind: say::Origin,
    /// Its name; those of the baseline and of defaults begin with their kind and a slash.
    pub name: String,
    /// Where it is written; `null` where the language supplies it.
    pub origin: Option<Written>,
}

impl By {
    /// Describes a decision of a plan. One that the plan does not have (a stray rule of the
    /// kernel) has no origin.
    pub fn of(id: &RuleId, plan: &HostPlan) -> Self {
        Self::found(id, plan.find(id))
    }

    /// Describes a decision that a plan has, or has not.
    pub(crate) fn found(id: &RuleId, decision: Option<&Decision>) -> Self {
        let origin = decision.and_then(|decision| decision.origin.as_ref());
        Self { kind: id.kind.into(), name: id.to_string(), origin: origin.map(Into::into) }
    }
}

impl From<&Decision> for By {
    fn from(decision: &Decision) -> Self {
        let Decision { id, origin, .. } = decision;
        Self { kind: id.kind.into(), name: id.to_string(), origin: origin.as_ref().map(Into::into) }
    }
}

/// A packet of a direction that an example should resemble: from a machine that nobody names, to
/// the host or from it.
pub(crate) fn likely_packet(direction: Direction, plan: &HostPlan) -> Packet {
    const STRANGERS: [Ipv4Addr; 2] =
        [Ipv4Addr::new(203, 0, 113, 9), Ipv4Addr::new(198, 51, 100, 200)];
    let [stranger, another] = STRANGERS.map(IpAddr::V4);
    let here = plan.here(Family::V4).unwrap_or(another);
    let (source, destination) = match direction {
        Direction::Inbound => (stranger, here),
        Direction::Outbound => (here, stranger),
        Direction::Forwarded => (stranger, another),
    };
    let own = |end: Direction| Relation { own: plan.moving && direction == end, on_link: false };
    Packet {
        direction,
        in_interface: None,
        out_interface: None,
        source,
        destination,
        transport: Transport::Ports {
            protocol: PortProtocol::Tcp,
            source: 49_152,
            destination: 443,
        },
        state: ConnectionState::New,
        program: None,
        user: None,
        asked: None,
        source_is: own(Direction::Outbound),
        destination_is: own(Direction::Inbound),
    }
}

/// A packet in reports.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PacketWords {
    /// `inbound`, `outbound` or `forwarded`.
    pub direction: say::Direction,
    /// The interface it comes in by, if that is known.
    pub in_interface: Option<String>,
    /// The interface it goes out by, if that is known.
    pub out_interface: Option<String>,
    /// The address that it comes from.
    pub source: IpAddr,
    /// The address that it goes to.
    pub destination: IpAddr,
    /// `tcp`, `udp`, `icmp`, `icmpv6`, or the number of another protocol.
    pub protocol: String,
    /// The sender's port, for protocols that have ports.
    pub source_port: Option<u16>,
    /// The receiver's port, for protocols that have ports.
    pub destination_port: Option<u16>,
    /// The type, for ICMP and ICMPv6.
    pub icmp_type: Option<u8>,
    /// What connection tracking says of it.
    pub state: say::Tracked,
    /// The program on this host that receives or sends it, if one is named.
    pub program: Option<String>,
    /// The user whose socket receives or sends it, if one is named.
    pub user: Option<String>,
    /// The port that its sender asked for, if it was led here.
    pub asked: Option<u16>,
}

impl PacketWords {
    /// Describes a packet in these words.
    pub fn of(packet: &Packet) -> Self {
        let (protocol, icmp_type) = match (packet.transport, packet.family()) {
            (Transport::Ports { protocol, .. }, _) => (protocol.to_string(), None),
            (Transport::Icmp { kind }, Family::V4) => ("icmp".to_owned(), Some(kind)),
            (Transport::Icmp { kind }, Family::V6) => ("icmpv6".to_owned(), Some(kind)),
            (Transport::Other { protocol }, _) => (protocol.to_string(), None),
        };
        let ports = packet.ports();
        Self {
            direction: packet.direction.into(),
            in_interface: packet.in_interface.clone(),
            out_interface: packet.out_interface.clone(),
            source: packet.source,
            destination: packet.destination,
            protocol,
            source_port: ports.map(|it| it.0),
            destination_port: ports.map(|it| it.1),
            icmp_type,
            state: packet.state.into(),
            program: packet.program.clone(),
            user: packet.user.clone(),
            asked: packet.asked,
        }
    }

    /// The interfaces by which it comes and goes, as they follow its ends in a line.
    pub fn interfaces(&self) -> String {
        let way = |word: &str, name: &Option<String>| {
            name.as_ref().map(|it| format!(" {word} by {it}")).unwrap_or_default()
        };
        way("in", &self.in_interface) + &way("out", &self.out_interface)
    }

    /// The same, and from which port it was led here.
    pub fn way(&self) -> String {
        let asked = self.asked.map(|it| format!(", led here from {it}")).unwrap_or_default();
        self.interfaces() + &asked
    }

    /// What it carries, as a traffic term.
    pub fn traffic(&self) -> String {
        match (self.destination_port, self.icmp_type) {
            (Some(port), _) => format!("{port}/{}", self.protocol),
            (None, Some(kind)) => format!("{} type {kind}", self.protocol),
            (None, None) => format!("protocol {}", self.protocol),
        }
    }
}

/// A number with its thousands apart, such as `65,536`.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut text = String::new();
    for (at, digit) in digits.chars().enumerate() {
        if at > 0 && (digits.len() - at).is_multiple_of(3) {
            text.push(',');
        }
        text.push(digit);
    }
    text
}
