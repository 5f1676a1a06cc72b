//! One packet, as far as a policy can tell packets apart.

use super::ports::PortProtocol;
use super::protocol::{ICMP, ICMPV6};
use super::relation::Relation;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::IpAddr;

/// The last ICMP type that hosts know (RFC 950: address mask reply).
const LAST_KNOWN_ICMP: u8 = 18;
/// ICMPv6 types below this are errors (RFC 4443 section 2.1).
const FIRST_INFORMATIONAL_ICMPV6: u8 = 128;

/// A version of the Internet Protocol.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Family {
    /// Internet Protocol version 4 (RFC 791).
    V4,
    /// Internet Protocol version 6 (RFC 8200).
    V6,
}

impl Family {
    /// Both versions, IPv4 first.
    pub const BOTH: [Self; 2] = [Self::V4, Self::V6];

    /// The version of an address.
    #[must_use]
    pub fn of(address: IpAddr) -> Self {
        if address.is_ipv4() { Self::V4 } else { Self::V6 }
    }
}

impl fmt::Display for Family {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(match self {
            Self::V4 => "IPv4",
            Self::V6 => "IPv6",
        })
    }
}

/// Which way a packet goes, seen from the host.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Direction {
    /// To the host itself.
    Inbound,
    /// From the host itself.
    Outbound,
    /// Through the host, from one interface to another.
    Forwarded,
}

impl Direction {
    /// All three, in the order in which they are shown.
    pub const ALL: [Self; 3] = [Self::Inbound, Self::Outbound, Self::Forwarded];

    /// The word for it in policies and output.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Inbound => "inbound",
            Self::Outbound => "outbound",
            Self::Forwarded => "forwarded",
        }
    }

    /// Reads the word that [`Direction::as_str`] gives.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|direction| direction.as_str() == text)
    }
}

impl fmt::Display for Direction {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(self.as_str())
    }
}

/// What connection tracking says of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ConnectionState {
    /// The first of a flow.
    New,
    /// Part of a flow that has been answered.
    Established,
    /// Belongs to another flow, such as an ICMP error about it.
    Related,
    /// Fits no flow and cannot begin one.
    Invalid,
    /// Not tracked, such as neighbour discovery.
    Untracked,
}

impl ConnectionState {
    /// Every state that there is.
    pub const ALL: [Self; 5] =
        [Self::New, Self::Established, Self::Related, Self::Invalid, Self::Untracked];

    /// The word for it in output.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::New => "new",
            Self::Established => "established",
            Self::Related => "related",
            Self::Invalid => "invalid",
            Self::Untracked => "untracked",
        }
    }
}

/// A set of connection states.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Default, Serialize, Deserialize,
)]
#[serde(into = "Vec<ConnectionState>", from = "Vec<ConnectionState>")]
pub struct StateSet(u8);

impl StateSet {
    /// The set of the given states.
    #[must_use]
    pub fn of(states: &[ConnectionState]) -> Self {
        Self(states.iter().fold(0, |bits, &state| bits | 1 << state as u8))
    }

    /// Whether the set holds `state`.
    #[must_use]
    pub fn contains(self, state: ConnectionState) -> bool {
        self.0 & 1 << state as u8 != 0
    }

    /// The states that both hold.
    #[must_use]
    pub fn intersection(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// The states that this set holds and the other does not.
    #[must_use]
    pub fn difference(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// The states that either holds.
    #[must_use]
    pub fn union(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// Whether the set holds no state.
    #[must_use]
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// The states that the set holds.
    pub fn iter(self) -> impl Iterator<Item = ConnectionState> {
        ConnectionState::ALL.into_iter().filter(move |&state| self.contains(state))
    }
}

impl From<Vec<ConnectionState>> for StateSet {
    fn from(states: Vec<ConnectionState>) -> Self {
        Self::of(&states)
    }
}

impl From<StateSet> for Vec<ConnectionState> {
    fn from(set: StateSet) -> Self {
        set.iter().collect()
    }
}

/// The part of a packet behind the IP header.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Transport {
    /// A protocol with ports.
    Ports {
        /// Which of the protocols with ports.
        protocol: PortProtocol,
        /// Port of the sender.
        source: u16,
        /// Port of the receiver.
        destination: u16,
    },
    /// ICMP (RFC 792) in an IPv4 packet, ICMPv6 (RFC 4443) in an IPv6 packet.
    Icmp {
        /// The message type, numbered by the packet's IP version.
        kind: u8,
    },
    /// Any other protocol, by its IANA number.
    Other {
        /// The protocol's number in the IP header.
        protocol: u8,
    },
}

/// One packet. Source and destination are of the same IP version.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Packet {
    /// Which way it goes.
    pub direction: Direction,
    /// The interface it arrives by (inbound, forwarded); `None`: some interface that is not
    /// the loopback interface.
    pub in_interface: Option<String>,
    /// The interface it leaves by (outbound, forwarded); `None` as above.
    pub out_interface: Option<String>,
    /// Where it comes from.
    pub source: IpAddr,
    /// The address that it goes to.
    pub destination: IpAddr,
    /// What is behind the IP header.
    pub transport: Transport,
    /// What connection tracking says of it.
    pub state: ConnectionState,
    /// The executable of the socket on this host that receives or sends it; `None`: one that
    /// nobody names, or no socket.
    pub program: Option<String>,
    /// The user whose socket it is, among those that rules name; `None`: nobody's of them.
    pub user: Option<String>,
    /// The port that its sender asked for, if the packet was led elsewhere on its way in (its destination
    /// was translated); never 0. `None`: it goes where it was sent, or it has no ports, or it is a reply.
    pub asked: Option<u16>,
    /// What the source is to a host whose addresses the policy does not list.
    pub source_is: Relation,
    /// What the destination is to it.
    pub destination_is: Relation,
}

impl Packet {
    /// The IP version of both addresses.
    #[must_use]
    pub fn family(&self) -> Family {
        Family::of(self.source)
    }

    /// The protocol number in the IP header.
    #[must_use]
    pub fn protocol(&self) -> u8 {
        match (self.transport, self.family()) {
            (Transport::Ports { protocol, .. }, _) => protocol.number(),
            (Transport::Icmp { .. }, Family::V4) => ICMP,
            (Transport::Icmp { .. }, Family::V6) => ICMPV6,
            (Transport::Other { protocol }, _) => protocol,
        }
    }

    /// Whether a host may answer the packet with a refusal. It never does for ICMP errors, for
    /// unassigned ICMP types (which may be errors), for router discovery, which Linux takes for such
    /// (`icmp_pointers` in net/ipv4/icmp.c), and for packets to many or from nobody; a
    /// rejected packet of that kind meets silence.
    ///
    /// # References
    /// RFC 1122 section 3.2.2, RFC 4443 section 2.4 (e).
    #[must_use]
    pub fn may_be_answered(&self) -> bool {
        let is_error = match (self.transport, self.family()) {
            (Transport::Icmp { kind }, Family::V4) => {
                matches!(kind, 1..=7 | 9..=12) || kind > LAST_KNOWN_ICMP
            }
            (Transport::Icmp { kind }, Family::V6) => kind < FIRST_INFORMATIONAL_ICMPV6,
            _ => false,
        };
        let to_many = self.destination.is_multicast()
            || self.destination == IpAddr::V4(std::net::Ipv4Addr::BROADCAST);
        !is_error && !to_many && !self.source.is_unspecified()
    }

    /// Source and destination port, for protocols that have them.
    #[must_use]
    pub fn ports(&self) -> Option<(u16, u16)> {
        match self.transport {
            Transport::Ports { source, destination, .. } => Some((source, destination)),
            Transport::Icmp { .. } | Transport::Other { .. } => None,
        }
    }
}

/// What connection tracking of a kernel says where kernels differ.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Tracking {
    /// Of multicast router discovery (RFC 4286): ICMPv6 types 151 and 152.
    pub router_discovery: ConnectionState,
}

impl Default for Tracking {
    /// That of Linux 6.18.
    fn default() -> Self {
        Self { router_discovery: ConnectionState::Untracked }
    }
}

impl Tracking {
    /// What it says of a packet that comes alone, with no flow before it and no packet inside that it
    /// could be about.
    ///
    /// # References
    /// `valid_new` in nf_conntrack_proto_icmp.c, `valid_new` and `noct_valid_new` in
    /// nf_conntrack_proto_icmpv6.c of Linux 6.18.
    #[must_use]
    pub fn state_alone(self, transport: Transport, family: Family) -> ConnectionState {
        let Transport::Icmp { kind } = transport else { return ConnectionState::New };
        match (family, kind) {
            (Family::V4, 8 | 13 | 15 | 17) | (Family::V6, 128 | 139) => ConnectionState::New,
            (Family::V6, 130..=136 | 143) => ConnectionState::Untracked,
            (Family::V6, 151 | 152) => self.router_discovery,
            _ => ConnectionState::Invalid,
        }
    }
}
