//! What of a packet rules look at, as far as packets stand for others: one sender for a whole network, one port for a range.

use std::collections::HashMap;
use tipstaff_wire::nf_tables::{Base, Expression, ct, registers};

/// What of a packet is in a register.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum What {
    /// Whence it comes, or the first bytes of that.
    Source,
    /// The port that it goes to.
    Port,
    /// Some of that, otherwise than from its beginning on.
    Bits,
    /// Something else.
    Other,
}

impl What {
    /// What is loaded from a header: the source of IPv4 stands at 12, of IPv6 at 8; the destination of IPv4 at 16, its
    /// protocol at 9 (RFC 791, RFC 8200).
    fn of_header(base: Base, offset: u32, length: u32) -> Self {
        match (base, offset, length) {
            (Base::Network, 12, ..=4) | (Base::Network, 8, ..=16) => Self::Source,
            (Base::Network, 16, ..=4) | (Base::Network, 9, 1) => Self::Other,
            (Base::Network, ..24, _) if offset + length > 8 => Self::Bits,
            (Base::Transport, 2, 2) => Self::Port,
            (Base::Transport, ..4, _) if offset + length > 2 => Self::Bits,
            _ => Self::Other,
        }
    }
}

/// What is in the registers, and what was masked out of it.
#[derive(Default)]
pub(super) struct Loaded<'r>(HashMap<u32, (What, Option<&'r [u8]>)>);

impl<'r> Loaded<'r> {
    /// What is in a register, by the number of its first word, and its mask.
    pub(super) fn at(&self, word: u32) -> (What, Option<&'r [u8]>) {
        self.0.get(&word).copied().unwrap_or((What::Other, None))
    }

    /// Takes note of what an expression loads.
    pub(super) fn note(&mut self, expression: &'r Expression) {
        let (register, what, mask) = match expression {
            Expression::Payload { register, base, offset, length } => {
                (register, What::of_header(*base, *offset, *length), None)
            }
            Expression::CtEnds { register, key, direction: 0 } => {
                let what = match *key {
                    ct::SOURCE => What::Source,
                    ct::DESTINATION_PORT => What::Port,
                    _ => What::Other,
                };
                (register, what, None)
            }
            Expression::Bitwise { source, destination, mask, .. } => {
                let what = match self.at(registers::word(*source)).0 {
                    What::Source | What::Port if !is_prefix(mask) => What::Bits,
                    what => what,
                };
                (destination, what, Some(&mask[..]))
            }
            Expression::Meta { register, .. }
            | Expression::Load { register, .. }
            | Expression::Ct { register, .. }
            | Expression::CtEnds { register, .. }
            | Expression::Fib { register, .. }
            | Expression::Find { destination: register, .. } => (register, What::Other, None),
            _ => return,
        };
        self.0.insert(registers::word(*register), (what, mask));
    }
}

/// Whether a mask keeps nothing but the first bits.
fn is_prefix(mask: &[u8]) -> bool {
    let ones = mask.iter().take_while(|it| **it == 255).count();
    let mut rest = mask[ones..].iter();
    rest.next().is_none_or(|it| it.leading_ones() == it.count_ones()) && rest.all(|it| *it == 0)
}
