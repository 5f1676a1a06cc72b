//! Where the parts of a key come from: the connection that a packet begins, or its headers.

use super::super::keys;
use super::layout::{ADDRESS, KIND, PORT, PROTOCOL, Steps};
use tipstaff_core::program::End;
use tipstaff_core::space::{Family, ICMP, ICMPV6, TCP, UDP};
use tipstaff_wire::nf_tables::{Base, Expression, FAMILY_IPV4, FAMILY_IPV6, MetaKey, ct};

/// The protocols with ports, at the same place in all of them: TCP, UDP, the Datagram Congestion Control Protocol
/// (RFC 4340), SCTP (RFC 9260) and UDP-Lite (RFC 3828).
pub(super) const WITH_PORTS: [u8; 5] = [TCP, UDP, 33, 132, 136];

/// Where a key comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Form {
    /// What connection tracking has taken down of the packet that began the connection.
    Connection,
    /// The headers of a packet.
    Headers(Family, Behind),
}

/// What there is behind a packet's IP header.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Behind {
    /// Ports.
    Ports,
    /// Type and code of an ICMP message.
    Icmp,
    /// Nothing that is remembered.
    Other,
}

impl Form {
    /// All forms of headers.
    pub(crate) fn of_headers() -> impl Iterator<Item = Self> {
        let all = [Behind::Ports, Behind::Icmp, Behind::Other];
        Family::BOTH
            .into_iter()
            .flat_map(move |family| all.map(|behind| Self::Headers(family, behind)))
    }

    /// The protocols whose packets have this form; none for all others.
    pub(crate) fn protocols(self) -> &'static [u8] {
        match self {
            Self::Headers(_, Behind::Ports) => &WITH_PORTS,
            Self::Headers(Family::V4, Behind::Icmp) => &[ICMP],
            Self::Headers(Family::V6, Behind::Icmp) => &[ICMPV6],
            _ => &[],
        }
    }

    /// Its name in those of chains.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Connection => "connection",
            Self::Headers(Family::V4, Behind::Ports) => "v4/ports",
            Self::Headers(Family::V4, Behind::Icmp) => "v4/icmp",
            Self::Headers(Family::V4, Behind::Other) => "v4/other",
            Self::Headers(Family::V6, Behind::Ports) => "v6/ports",
            Self::Headers(Family::V6, Behind::Icmp) => "v6/icmp",
            Self::Headers(Family::V6, Behind::Other) => "v6/other",
        }
    }

    /// Loads the IP version and the address of an end.
    pub(crate) fn who(self, end: End) -> Steps {
        let family = Expression::Meta { key: MetaKey::Family, register: KIND };
        let zero = |register, length| Expression::Load { register, data: vec![0; length] };
        match self {
            Self::Connection => {
                let key = match end {
                    End::Source => ct::SOURCE,
                    End::Destination => ct::DESTINATION,
                };
                vec![family, zero(ADDRESS, 16), original(key, ADDRESS)]
            }
            Self::Headers(version, _) => {
                let (offset, length) = match end {
                    End::Source => keys::source(version),
                    End::Destination => keys::destination(version),
                };
                let base = Base::Network;
                let load = Expression::Payload { base, offset, length, register: ADDRESS };
                match version {
                    Family::V4 => vec![family, zero(ADDRESS, 16), load],
                    Family::V6 => vec![family, load],
                }
            }
        }
    }

    /// Loads the protocol, and what of the packet is like a port.
    pub(crate) fn what(self) -> Steps {
        let protocol = Expression::Meta { key: MetaKey::Protocol, register: PROTOCOL };
        let transport = |offset| Expression::Payload {
            base: Base::Transport,
            offset,
            length: 2,
            register: PORT,
        };
        match self {
            Self::Connection => vec![protocol, original(ct::DESTINATION_PORT, PORT)],
            Self::Headers(_, Behind::Ports) => vec![protocol, transport(2)],
            Self::Headers(_, Behind::Icmp) => vec![protocol, transport(0)],
            Self::Headers(_, Behind::Other) => {
                vec![protocol, Expression::Load { register: PORT, data: vec![0; 4] }]
            }
        }
    }
}

/// The number of an IP version in keys.
pub(crate) fn number(family: Family) -> u8 {
    match family {
        Family::V4 => FAMILY_IPV4,
        Family::V6 => FAMILY_IPV6,
    }
}

/// What connection tracking took down when the connection began.
fn original(key: u32, register: u32) -> Expression {
    Expression::CtEnds { key, register, direction: 0 }
}
