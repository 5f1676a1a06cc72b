//! What registers hold.

use super::super::keys;
use tipstaff_core::program::{Sender, Test};
use tipstaff_core::space::Family;
use tipstaff_wire::nf_tables::Base;

/// What a register holds.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Field {
    InInterface,
    OutInterface,
    State,
    /// The state after masking.
    StateBits(u32),
    Family,
    Protocol,
    Source(Family),
    /// The first 64 bits of an IPv6 sender.
    SourceNetwork,
    /// The hash of a sender.
    Crowd(Sender),
    Destination(Family),
    /// The first byte behind the IP header.
    IcmpType,
    SourcePort,
    DestinationPort,
    Time,
    /// The time in network order.
    OrderedTime,
    SocketMark,
    /// The mark of the socket after masking.
    ProgramBits(u32),
    Unknown,
}

impl Field {
    /// Whom it takes for one sender.
    pub fn sender(self) -> Option<Sender> {
        match self {
            Self::Source(Family::V4) => Some(Sender::Address),
            Self::SourceNetwork => Some(Sender::Network),
            _ => None,
        }
    }
}

/// Which field some bytes of a packet are; that depends on what has been tested before them.
pub fn payload(tests: &[Test], base: Base, offset: u32, length: u32) -> Field {
    let family = tests.iter().find_map(|test| match test {
        Test::Family(family) => Some(*family),
        _ => None,
    });
    match (base, offset, length, family) {
        (Base::Network, offset, length, Some(Family::V6))
            if (offset, length) == keys::sender(Sender::Network) =>
        {
            Field::SourceNetwork
        }
        (Base::Network, offset, length, Some(family)) => {
            if (offset, length) == keys::source(family) {
                Field::Source(family)
            } else if (offset, length) == keys::destination(family) {
                Field::Destination(family)
            } else {
                Field::Unknown
            }
        }
        (Base::Transport, 0, 1, _) => Field::IcmpType,
        (Base::Transport, 0, 2, _) => Field::SourcePort,
        (Base::Transport, 2, 2, _) => Field::DestinationPort,
        _ => Field::Unknown,
    }
}
