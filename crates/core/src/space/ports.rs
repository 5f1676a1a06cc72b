//! Protocols with ports. A further one is a line in the table below, and what the compiler then asks for.

use super::RangeSet;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::ops::{Index, IndexMut};

macro_rules! protocols_with_ports {
    ($($(#[$meaning:meta])* $name:ident = $number:literal, $word:literal;)+) => {
        /// A protocol with ports: source and destination port are the first four bytes behind the IP header.
        #[derive(
            Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
        )]
        #[serde(rename_all = "snake_case")]
        pub enum PortProtocol {
            $($(#[$meaning])* $name,)+
        }

        impl PortProtocol {
            /// All of them, in the order in which they are shown.
            pub const ALL: [Self; [$($number),+].len()] = [$(Self::$name),+];

            /// The word for it in policies and output.
            #[must_use]
            pub const fn as_str(self) -> &'static str {
                match self {
                    $(Self::$name => $word,)+
                }
            }

            /// Its number in the IP header (IANA "Assigned Internet Protocol Numbers").
            #[must_use]
            pub const fn number(self) -> u8 {
                match self {
                    $(Self::$name => $number,)+
                }
            }
        }
    };
}

protocols_with_ports! {
    /// Transmission Control Protocol (RFC 9293).
    Tcp = 6, "tcp";
    /// User Datagram Protocol (RFC 768).
    Udp = 17, "udp";
    /// Stream Control Transmission Protocol (RFC 9260).
    Sctp = 132, "sctp";
}

impl PortProtocol {
    /// The protocol of this number, if it has ports.
    #[must_use]
    pub fn of_number(number: u8) -> Option<Self> {
        Self::ALL.into_iter().find(|it| it.number() == number)
    }

    /// Reads the word that [`PortProtocol::as_str`] gives.
    #[must_use]
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|it| it.as_str() == word)
    }

    /// Whether the kernel can tell whose socket waits for a packet of it that comes in.
    ///
    /// # References
    /// `nf_sk_lookup_slow_v4` in net/ipv4/netfilter/nf_socket_ipv4.c: TCP and UDP only.
    #[must_use]
    pub fn has_known_receivers(self) -> bool {
        matches!(self, Self::Tcp | Self::Udp)
    }

    /// The numbers of all protocols with ports.
    #[must_use]
    pub fn numbers() -> RangeSet<u8> {
        RangeSet::from_ranges(Self::ALL.map(|it| (it.number(), it.number())))
    }
}

impl fmt::Display for PortProtocol {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(self.as_str())
    }
}

/// One value for each protocol with ports.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct ByProtocol<T>([T; PortProtocol::ALL.len()]);

impl<T> ByProtocol<T> {
    /// What `of` gives for each.
    #[must_use]
    pub fn new(of: impl FnMut(PortProtocol) -> T) -> Self {
        Self(PortProtocol::ALL.map(of))
    }

    /// Each protocol with its value, in the order of [`PortProtocol::ALL`].
    pub fn iter(&self) -> impl Iterator<Item = (PortProtocol, &T)> {
        PortProtocol::ALL.into_iter().zip(&self.0)
    }

    /// The values, in the order of [`PortProtocol::ALL`].
    pub fn values(&self) -> impl Iterator<Item = &T> {
        self.0.iter()
    }
}

impl<T> Index<PortProtocol> for ByProtocol<T> {
    type Output = T;

    fn index(&self, protocol: PortProtocol) -> &T {
        &self.0[protocol as usize]
    }
}

impl<T> IndexMut<PortProtocol> for ByProtocol<T> {
    fn index_mut(&mut self, protocol: PortProtocol) -> &mut T {
        &mut self.0[protocol as usize]
    }
}
