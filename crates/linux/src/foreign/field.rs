//! What of a packet is in the kernel's registers, as others load it.

use std::collections::HashMap;
use tipstaff_core::program::{End, Test};
use tipstaff_core::space::{Family, ICMP, ICMPV6, PortProtocol, RangeSet};
use tipstaff_wire::nf_tables::{Base, Expression, MetaKey, ct, fib, registers};

/// What a register holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Field {
    InInterface,
    OutInterface,
    Version,
    EtherType,
    Protocol,
    /// The first bytes of the address that it comes from, or goes to.
    Address(End, Family),
    SourcePort,
    DestinationPort,
    /// The type of an IP version's own ICMP.
    IcmpType(u8),
    State,
    /// What kind of address an end's is.
    Kind(End),
    /// The number of the interface that it comes in by, or goes out by.
    InNumber,
    OutNumber,
    /// Something that no policy speaks of, in words that follow "it looks at".
    Other(String),
}

impl Field {
    /// How many bytes it has, if it is loaded whole.
    pub(super) fn length(&self) -> usize {
        match self {
            Self::Version | Self::Protocol | Self::IcmpType(_) => 1,
            Self::EtherType | Self::SourcePort | Self::DestinationPort => 2,
            Self::InInterface | Self::OutInterface | Self::Address(_, Family::V6) => 16,
            _ => 4,
        }
    }
}

/// What is in a register, and what has been masked out of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Loaded {
    pub field: Field,
    /// The bits that were kept; `None`: all.
    pub mask: Option<Vec<u8>>,
}

impl Loaded {
    pub(super) fn whole(field: Field) -> Self {
        Self { field, mask: None }
    }
}

/// The registers, by words of four bytes.
#[derive(Clone, Default)]
pub(super) struct Registers(HashMap<u32, Loaded>);

/// What has been asked of a packet so far, as far as it tells what its bytes are.
#[derive(Clone, Debug, Default)]
pub(super) struct Known {
    pub family: Option<Family>,
    pub protocols: Option<RangeSet<u8>>,
}

impl Known {
    /// What some tests tell.
    pub(super) fn by(tests: &[Test]) -> Self {
        let mut known = Self::default();
        for test in tests {
            match test {
                Test::Family(family) => known.family = Some(*family),
                Test::Protocol(numbers) => {
                    known.protocols = Some(match &known.protocols {
                        Some(before) => before.intersection(numbers),
                        None => numbers.clone(),
                    });
                }
                _ => {}
            }
        }
        known
    }

    /// What all of several lists of tests tell.
    pub(super) fn by_each(lists: &[Vec<Test>]) -> Self {
        let mut all = lists.iter().map(|it| Self::by(it));
        let Some(first) = all.next() else { return Self::default() };
        all.fold(first, |one, other| Self {
            family: one.family.filter(|it| other.family == Some(*it)),
            protocols: one.protocols.zip(other.protocols).map(|(a, b)| a.union(&b)),
        })
    }

    /// Whether what is asked of has ports.
    pub(super) fn has_ports(&self) -> bool {
        self.only(&PortProtocol::numbers())
    }

    /// Whether it is of some protocols, and no others.
    pub(super) fn only(&self, numbers: &RangeSet<u8>) -> bool {
        self.protocols
            .as_ref()
            .is_some_and(|it| !it.is_empty() && it.difference(numbers).is_empty())
    }
}

impl Registers {
    /// What is in a register so many words on.
    pub(super) fn at(&self, register: u32, words: u32) -> Loaded {
        let nothing = || Loaded::whole(Field::Other("what nobody put there".into()));
        self.0.get(&(registers::word(register) + words)).cloned().unwrap_or_else(nothing)
    }

    /// Follows an expression that puts something into a register; gives whether it does.
    pub(super) fn load(&mut self, expression: &Expression, known: &Known) -> bool {
        let (register, loaded) = match expression {
            Expression::Meta { key, register } => (register, Loaded::whole(meta(*key))),
            Expression::Payload { base, offset, length, register } => {
                (register, payload(*base, *offset, *length, known))
            }
            Expression::Ct { key: ct::STATE, register } => (register, Loaded::whole(Field::State)),
            Expression::Ct { register, .. } | Expression::CtEnds { register, .. } => {
                (register, other("what connection tracking knows besides the state"))
            }
            Expression::Fib { register, flags } => {
                let loaded = match *flags {
                    fib::SOURCE => Loaded::whole(Field::Kind(End::Source)),
                    fib::DESTINATION => Loaded::whole(Field::Kind(End::Destination)),
                    _ => other("what the routing table says of it"),
                };
                (register, loaded)
            }
            Expression::Bitwise { source, destination, mask, xor, .. } => {
                let before = self.at(*source, 0);
                let plain = before.mask.is_none() && xor.iter().all(|it| *it == 0);
                let loaded = match plain {
                    true => Loaded { mask: Some(mask.clone()), ..before },
                    false => other("bits that were changed"),
                };
                (destination, loaded)
            }
            Expression::Byteorder { destination, .. } | Expression::Hash { destination, .. } => {
                (destination, other("numbers that were worked out"))
            }
            Expression::Find { destination, .. } => (destination, other("what a map leads to")),
            Expression::Load { register, .. } => (register, other("a value of its own")),
            Expression::Socket { register, .. } => (register, other("the socket that receives it")),
            _ => return false,
        };
        self.0.insert(registers::word(*register), loaded);
        true
    }

    /// An expression that is not understood may have written anywhere.
    pub(super) fn forget(&mut self) {
        self.0.clear();
    }
}

fn other(words: &str) -> Loaded {
    Loaded::whole(Field::Other(words.into()))
}

/// `enum nft_meta_keys`, as far as it has no names in this program.
fn meta(key: MetaKey) -> Field {
    match key {
        MetaKey::InInterfaceName => Field::InInterface,
        MetaKey::OutInterfaceName => Field::OutInterface,
        MetaKey::Family => Field::Version,
        MetaKey::Protocol => Field::Protocol,
        MetaKey::Unknown(1) => Field::EtherType,
        MetaKey::Mark => Field::Other("its mark".into()),
        MetaKey::Priority => Field::Other("its priority".into()),
        MetaKey::Unknown(0) => Field::Other("how long it is".into()),
        MetaKey::Unknown(4) => Field::InNumber,
        MetaKey::Unknown(5) => Field::OutNumber,
        MetaKey::Unknown(10 | 11) => Field::Other("whose socket sends it".into()),
        MetaKey::Unknown(17) => Field::Other("whether it is for this host alone".into()),
        MetaKey::Time | MetaKey::Unknown(31 | 32) => Field::Other("the time".into()),
        MetaKey::Traced | MetaKey::Unknown(_) => {
            Field::Other("something that no policy speaks of".into())
        }
    }
}

/// What some bytes of a packet are (RFC 791, RFC 8200).
fn payload(base: Base, offset: u32, length: u32, known: &Known) -> Loaded {
    let prefix = |end: End, family: Family, whole: u32| {
        let mask = (length < whole).then(|| {
            let kept = length as usize;
            (0..whole as usize).map(|at| if at < kept { 0xff } else { 0 }).collect()
        });
        Loaded { field: Field::Address(end, family), mask }
    };
    match (base, known.family, offset, length) {
        (Base::Network, Some(Family::V4), 12, 1..=4) => prefix(End::Source, Family::V4, 4),
        (Base::Network, Some(Family::V4), 16, 1..=4) => prefix(End::Destination, Family::V4, 4),
        (Base::Network, Some(Family::V6), 8, 1..=16) => prefix(End::Source, Family::V6, 16),
        (Base::Network, Some(Family::V6), 24, 1..=16) => prefix(End::Destination, Family::V6, 16),
        (Base::Network, Some(Family::V4), 9, 1) => Loaded::whole(Field::Protocol),
        (Base::Network, Some(Family::V6), 6, 1) => {
            other("the first header behind that of IPv6, whatever stands behind that")
        }
        (Base::Network, None, ..) => other("a header whose IP version it does not ask for"),
        (Base::Transport, _, 0, 2) if known.has_ports() => Loaded::whole(Field::SourcePort),
        (Base::Transport, _, 2, 2) if known.has_ports() => Loaded::whole(Field::DestinationPort),
        (Base::Transport, _, 0, 1) if known.only(&RangeSet::single(ICMP)) => {
            Loaded::whole(Field::IcmpType(ICMP))
        }
        (Base::Transport, _, 0, 1) if known.only(&RangeSet::single(ICMPV6)) => {
            Loaded::whole(Field::IcmpType(ICMPV6))
        }
        (Base::Transport, _, 13, 1) if known.only(&RangeSet::single(6)) => other("flags of TCP"),
        (Base::Transport, _, 1, 1) => other("the code of ICMP messages"),
        (Base::Transport, ..) => other("a header whose protocol it does not ask for"),
        _ => other("bytes that no policy speaks of"),
    }
}
