//! What registers hold.

use super::super::keys::{self, Way};
use super::super::names::{AS_IT_BEGAN, CROWDS};
use tipstaff_core::program::{End, Sender, Test};
use tipstaff_core::space::Family;
use tipstaff_wire::nf_tables::{Base, Expression, MetaKey, SocketKey, ct, fib, registers};

/// What a register holds.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Field {
    InInterface,
    OutInterface,
    State,
    /// The state after masking.
    StateBits(u32),
    /// What is known of the connection.
    Status,
    /// The same after masking.
    StatusBits(u32),
    /// Which way of its connection the packet goes.
    Way,
    /// The port that its connection was made to.
    AskedPort,
    Family,
    Protocol,
    Source(Family),
    /// The first 64 bits of an IPv6 sender.
    SourceNetwork,
    /// The hash of a sender.
    Crowd(Sender),
    Destination(Family),
    /// The first bits of a sender's address, and how entries are found by them.
    SourceBlock(Family, Way),
    /// Likewise of a receiver's.
    DestinationBlock(Family, Way),
    /// The first byte behind the IP header.
    IcmpType,
    SourcePort,
    DestinationPort,
    Time,
    /// The time in network order.
    OrderedTime,
    /// What kind of address an end's is.
    AddressType(End),
    SocketMark,
    /// The mark of the socket after masking.
    ProgramBits(u32),
    Unknown,
}

impl Field {
    /// Whom it takes for one sender.
    pub(super) fn sender(self) -> Option<Sender> {
        match self {
            Self::Source(Family::V4) => Some(Sender::Address),
            Self::SourceNetwork => Some(Sender::Network),
            _ => None,
        }
    }

    /// What is left of it behind a mask.
    fn masked(self, mask: &[u8]) -> Self {
        let bits = mask.try_into().map_or(0, u32::from_ne_bytes);
        let block = |family, of: fn(Family, Way) -> Self| {
            Way::masked(family, mask).map_or(Self::Unknown, |way| of(family, way))
        };
        match self {
            Self::State => Self::StateBits(bits),
            Self::Status => Self::StatusBits(bits),
            Self::SocketMark => Self::ProgramBits(bits),
            Self::Source(family) => block(family, Self::SourceBlock),
            Self::Destination(family) => block(family, Self::DestinationBlock),
            _ => Self::Unknown,
        }
    }
}

/// What the registers hold, by words of four bytes.
#[derive(Default)]
pub(super) struct Registers(Vec<(u32, Field)>);

impl Registers {
    /// What a register holds.
    pub(super) fn get(&self, register: u32) -> Field {
        self.behind(register, 0)
    }

    /// What it holds so many words further on.
    pub(super) fn behind(&self, register: u32, words: u32) -> Field {
        let word = registers::word(register) + words;
        self.0.iter().find(|it| it.0 == word).map_or(Field::Unknown, |it| it.1)
    }

    /// Follows what puts something into a register; gives whether the expression does.
    pub(super) fn load(&mut self, expression: &Expression, tests: &[Test]) -> bool {
        let (register, field) = match expression {
            Expression::Meta { key, register } => {
                let field = match key {
                    MetaKey::InInterfaceName => Field::InInterface,
                    MetaKey::OutInterfaceName => Field::OutInterface,
                    MetaKey::Family => Field::Family,
                    MetaKey::Protocol => Field::Protocol,
                    MetaKey::Time => Field::Time,
                    MetaKey::Priority | MetaKey::Mark | MetaKey::Traced | MetaKey::Unknown(_) => {
                        Field::Unknown
                    }
                };
                (register, field)
            }
            Expression::Socket { key: SocketKey::Mark, register } => (register, Field::SocketMark),
            Expression::Fib { register, flags } => {
                let field = match *flags {
                    fib::SOURCE => Field::AddressType(End::Source),
                    fib::DESTINATION => Field::AddressType(End::Destination),
                    _ => Field::Unknown,
                };
                (register, field)
            }
            Expression::Payload { base, offset, length, register } => {
                (register, payload(tests, *base, *offset, *length))
            }
            Expression::Ct { key, register } => {
                let field = match *key {
                    ct::STATE => Field::State,
                    ct::STATUS => Field::Status,
                    ct::DIRECTION => Field::Way,
                    _ => Field::Unknown,
                };
                (register, field)
            }
            Expression::CtEnds { key, direction, register } => {
                let asked = (*key, *direction) == (ct::DESTINATION_PORT, AS_IT_BEGAN);
                (register, if asked { Field::AskedPort } else { Field::Unknown })
            }
            Expression::Bitwise { source, destination, length, mask, xor }
                if xor.iter().all(|&byte| byte == 0) && mask.len() as u64 == u64::from(*length) =>
            {
                (destination, self.get(*source).masked(mask))
            }
            Expression::Byteorder { source, destination } => {
                let time = self.get(*source) == Field::Time;
                (destination, if time { Field::OrderedTime } else { Field::Unknown })
            }
            Expression::Hash {
                source,
                destination,
                modulus: CROWDS,
                offset: 0,
                seed: None,
                ..
            } => {
                let sender = self.get(*source).sender();
                (destination, sender.map_or(Field::Unknown, Field::Crowd))
            }
            Expression::Bitwise { destination, .. } | Expression::Hash { destination, .. } => {
                (destination, Field::Unknown)
            }
            _ => return false,
        };
        let word = registers::word(*register);
        match self.0.iter_mut().find(|it| it.0 == word) {
            Some(held) => held.1 = field,
            None => self.0.push((word, field)),
        }
        true
    }
}

/// Which field some bytes of a packet are; that depends on what has been tested before them.
fn payload(tests: &[Test], base: Base, offset: u32, length: u32) -> Field {
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
