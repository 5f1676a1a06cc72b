//! Where packets carry the fields that rules compare, and what lookups compare them with.

use super::values::Key as Value;
use tipstaff_core::program::{Key, KeyValue, Sender};
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

/// Loads what a key looks up, the first part into the first register.
pub(super) fn load(key: Key) -> Vec<Expression> {
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
