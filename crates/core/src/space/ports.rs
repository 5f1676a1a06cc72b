//! Protocols with ports.

use super::protocol::{TCP, UDP};
use super::{RangeSet, TrafficSet};
use std::fmt;

/// A protocol with ports.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum PortProtocol {
    /// TCP (RFC 9293).
    Tcp,
    /// UDP (RFC 768).
    Udp,
}

impl PortProtocol {
    /// All of them.
    pub const ALL: [Self; 2] = [Self::Tcp, Self::Udp];

    /// The word for it in policies and output.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Tcp => "tcp",
            Self::Udp => "udp",
        }
    }

    /// Its number.
    #[must_use]
    pub fn number(self) -> u8 {
        match self {
            Self::Tcp => TCP,
            Self::Udp => UDP,
        }
    }

    /// Its traffic to these ports.
    #[must_use]
    pub fn traffic(self, ports: RangeSet<u16>) -> TrafficSet {
        match self {
            Self::Tcp => TrafficSet::tcp(ports),
            Self::Udp => TrafficSet::udp(ports),
        }
    }

    /// The ports to which its traffic goes.
    #[must_use]
    pub fn ports_of(self, traffic: &TrafficSet) -> &RangeSet<u16> {
        match self {
            Self::Tcp => &traffic.tcp,
            Self::Udp => &traffic.udp,
        }
    }
}

impl fmt::Display for PortProtocol {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(self.as_str())
    }
}
