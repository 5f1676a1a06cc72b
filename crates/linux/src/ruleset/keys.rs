//! Where packets carry the fields that rules compare, and what lookups compare them with.

use super::values::Key as Value;
use tipstaff_core::program::{Entry, Key, KeyValue, Lookup, Sender};
use tipstaff_core::space::Family;
use tipstaff_wire::nf_tables::{Base, Expression, MetaKey, registers};

/// Registers of four bytes each, one behind the other; a key may take several.
const WORD: u32 = 4;

/// A sender's address (RFC 791 section 3.1, RFC 8200 section 3), as offset and length in the IP
/// header.
pub(super) fn source(family: Family) -> (u32, u32) {
    match family {
        Family::V4 => (12, 4),
        Family::V6 => (8, 16),
    }
}

/// A receiver's address, likewise.
pub(super) fn destination(family: Family) -> (u32, u32) {
    match family {
        Family::V4 => (16, 4),
        Family::V6 => (24, 16),
    }
}

/// Whom a rate for each source takes for one, likewise.
pub(super) fn sender(sender: Sender) -> (u32, u32) {
    match sender {
        Sender::Address => source(Family::V4),
        // The first 64 bits of the address.
        Sender::Network => (8, 8),
    }
}

/// How a lookup finds entries: by a hash of the key's first bits, or in a tree of intervals.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) enum Way {
    /// Each entry holds this many values, as a power of two, from one of its multiples on.
    Blocks(u32),
    Intervals,
}

impl Way {
    /// That of a lookup.
    pub(super) fn of(Lookup { key, entries }: &Lookup) -> Self {
        let Some(one) = entries.first() else { return Self::Intervals };
        let values = |it: &Entry| it.last.0.wrapping_sub(it.first.0).wrapping_add(1);
        let size = values(one);
        let by_address = matches!(key, Key::Source(_) | Key::Destination(_));
        let are_blocks = size.is_power_of_two()
            && (size == 1 || by_address && size.ilog2() < address_bits(*key))
            && entries.iter().all(|it| {
                it.first.1 == it.last.1 && values(it) == size && it.first.0 & (size - 1) == 0
            });
        if are_blocks { Self::Blocks(size.ilog2()) } else { Self::Intervals }
    }

    /// Whether the kernel's set is one of intervals.
    pub(super) fn by_intervals(self) -> bool {
        self == Self::Intervals
    }

    /// The last value of an entry that is found by this one.
    pub(super) fn last(self, (value, service): KeyValue) -> Option<KeyValue> {
        let Self::Blocks(size) = self else { return None };
        let others = 1u128.checked_shl(size)? - 1;
        (value & others == 0).then_some((value | others, service))
    }

    /// How entries are found by addresses of which only these bits are looked at.
    pub(super) fn masked(family: Family, mask: &[u8]) -> Option<Self> {
        if mask.len() != address_bytes(family) {
            return None;
        }
        let size = mask.iter().rev().map(|it| it.trailing_zeros());
        // Up to the first bit from the end that counts, and all before it have to.
        let whole = size.clone().take_while(|&it| it == 8).count();
        let zeros = size.clone().take(whole + 1).sum::<u32>();
        let meant = Self::Blocks(zeros);
        (meant.mask(family).as_deref() == Some(mask)).then_some(meant)
    }

    /// The bits of an address that are looked at, if not all are.
    fn mask(self, family: Family) -> Option<Vec<u8>> {
        let Self::Blocks(size @ 1..) = self else { return None };
        let bits = u32::try_from(address_bytes(family) * 8).ok()?;
        let mask = u128::MAX.checked_shl(size).filter(|_| size < bits)?;
        Some(mask.to_be_bytes()[16 - address_bytes(family)..].to_vec())
    }
}

/// What names of maps say of what is looked up, and of how many bits.
pub(super) fn word(key: Key, way: Way) -> String {
    let version = |it| if it == Family::V4 { "v4" } else { "v6" };
    let (what, family) = match key {
        Key::Source(family) => ("source", Some(family)),
        Key::Destination(family) => ("destination", Some(family)),
        Key::DestinationPort => ("port", None),
        Key::IcmpType => ("icmp-type", None),
        Key::SourceService(family) => ("source-service", Some(family)),
        Key::DestinationService(family) => ("destination-service", Some(family)),
    };
    let how = match way {
        Way::Intervals => "intervals".to_owned(),
        Way::Blocks(size) => (address_bits(key) - size).to_string(),
    };
    format!("{what}{}-{how}", family.map_or("", |it| version(it)))
}

fn address_bits(key: Key) -> u32 {
    length(key) * 8
}

/// Loads what a key looks up, the first part into the first register.
pub(super) fn load(key: Key, way: Way) -> Vec<Expression> {
    let mut steps = whole(key);
    if let Key::Source(family) | Key::Destination(family) = key
        && let Some(mask) = way.mask(family)
    {
        steps.push(Expression::Bitwise {
            source: registers::FIRST,
            destination: registers::FIRST,
            length: length(key),
            xor: vec![0; mask.len()],
            mask,
        });
    }
    steps
}

fn whole(key: Key) -> Vec<Expression> {
    let payload = |base, (offset, length): (u32, u32), register| Expression::Payload {
        base,
        offset,
        length,
        register,
    };
    let service = |address: (u32, u32)| {
        let words = address.1 / WORD;
        let behind = registers::FIRST_WORD + words;
        vec![
            payload(Base::Network, address, registers::FIRST),
            Expression::Meta { key: MetaKey::Protocol, register: registers::called(behind) },
            payload(Base::Transport, (2, 2), registers::called(behind + 1)),
        ]
    };
    match key {
        Key::Source(family) => vec![payload(Base::Network, source(family), registers::FIRST)],
        Key::Destination(family) => {
            vec![payload(Base::Network, destination(family), registers::FIRST)]
        }
        Key::DestinationPort => vec![payload(Base::Transport, (2, 2), registers::FIRST)],
        Key::IcmpType => vec![payload(Base::Transport, (0, 1), registers::FIRST)],
        Key::SourceService(family) => service(source(family)),
        Key::DestinationService(family) => service(destination(family)),
    }
}

/// How many bytes a key takes.
pub(super) fn length(key: Key) -> u32 {
    match key {
        Key::Source(family) | Key::Destination(family) => source(family).1,
        Key::DestinationPort => 2,
        Key::IcmpType => 1,
        // Protocol and port take a register each.
        Key::SourceService(family) | Key::DestinationService(family) => source(family).1 + 2 * WORD,
    }
}

/// A value as the kernel compares it.
pub(super) fn bytes(key: Key, value: KeyValue) -> Vec<u8> {
    // The value came from a field of that many bytes.
    let low = |value: u128, length: usize| value.to_be_bytes()[16 - length..].to_vec();
    match key {
        Key::DestinationPort => low(value.0, 2),
        Key::IcmpType => low(value.0, 1),
        Key::Source(family) | Key::Destination(family) => low(value.0, address_bytes(family)),
        Key::SourceService(family) | Key::DestinationService(family) => {
            let mut bytes = low(value.0, address_bytes(family));
            let [_, protocol, high_port, low_port] = value.1.to_be_bytes();
            bytes.extend([protocol, 0, 0, 0, high_port, low_port, 0, 0]);
            bytes
        }
    }
}

fn address_bytes(family: Family) -> usize {
    if family == Family::V4 { 4 } else { 16 }
}

/// Reads what [`bytes`] writes.
pub(super) fn value(key: Key, bytes: &[u8]) -> Option<KeyValue> {
    let wide = |bytes: &[u8]| {
        let mut value = [0; 16];
        value.get_mut(16usize.checked_sub(bytes.len())?..)?.copy_from_slice(bytes);
        u128::from_key(&value)
    };
    if usize::try_from(length(key)).ok()? != bytes.len() {
        return None;
    }
    match key {
        Key::SourceService(_) | Key::DestinationService(_) => {
            let (address, service) = bytes.split_at_checked(bytes.len().checked_sub(8)?)?;
            let &[protocol, 0, 0, 0, high_port, low_port, 0, 0] = service else { return None };
            Some((wide(address)?, u32::from_be_bytes([0, protocol, high_port, low_port])))
        }
        _ => Some((wide(bytes)?, 0)),
    }
}

#[cfg(test)]
mod tests {
    use super::{Entry, Expression, Family, Key, Lookup, Way, load};
    use tipstaff_core::program::Then;

    fn lookup(key: Key, ranges: &[(u128, u128)]) -> Lookup {
        let then = || Then::Jump("elsewhere".into());
        let entry = |it: &(u128, u128)| Entry { first: (it.0, 0), last: (it.1, 0), then: then() };
        Lookup { key, entries: ranges.iter().map(entry).collect() }
    }

    #[test]
    fn networks_of_one_size_are_found_by_their_first_bits() {
        let (v4, v6) = (Key::Source(Family::V4), Key::Destination(Family::V6));
        for (key, ranges, way) in [
            (v4, &[(7, 7), (9, 9)][..], Way::Blocks(0)),
            (v4, &[(0x0a00_0000, 0x0a00_00ff), (0x0a00_0300, 0x0a00_03ff)], Way::Blocks(8)),
            (v6, &[(1 << 64, (2 << 64) - 1)], Way::Blocks(64)),
            // Of two sizes, not from a multiple on, all there are, none, and no addresses.
            (v4, &[(0, 255), (512, 513)], Way::Intervals),
            (v4, &[(1, 2)], Way::Intervals),
            (v4, &[(0, 0xffff_ffff)], Way::Intervals),
            (v6, &[(0, u128::MAX)], Way::Intervals),
            (v4, &[], Way::Intervals),
            (Key::DestinationPort, &[(8, 15)], Way::Intervals),
            (Key::DestinationPort, &[(80, 80)], Way::Blocks(0)),
        ] {
            let lookup = lookup(key, ranges);
            assert_eq!(Way::of(&lookup), way, "{key:?} {ranges:x?}");
            if !way.by_intervals() {
                for entry in &lookup.entries {
                    assert_eq!(way.last(entry.first), Some(entry.last));
                }
            }
        }
        assert_eq!(Way::Blocks(8).last((0x0a00_0001, 0)), None, "no packet finds it");
    }

    #[test]
    fn only_masks_of_first_bits_are_understood() {
        for (family, bits) in [(Family::V4, 32), (Family::V6, 128)] {
            let key = Key::Source(family);
            for size in 1..bits {
                let steps = load(key, Way::Blocks(size));
                let Some(Expression::Bitwise { mask, .. }) = steps.last() else {
                    panic!("{steps:?}")
                };
                assert_eq!(Way::masked(family, mask), Some(Way::Blocks(size)));
            }
            assert_eq!(load(key, Way::Blocks(0)), load(key, Way::Intervals));
            assert_eq!(load(key, Way::Blocks(0)).len(), 1);
        }
        for mask in [&[255, 0, 255, 0][..], &[0, 0, 0, 0], &[255, 255, 255, 253], &[255, 255], &[]]
        {
            assert_eq!(Way::masked(Family::V4, mask), None, "{mask:?}");
        }
    }
}
