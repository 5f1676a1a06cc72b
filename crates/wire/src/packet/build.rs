//! Building packets with correct checksums.

use crc::{CRC_32_ISCSI, Crc};
use std::net::IpAddr;

const HOP_LIMIT: u8 = 64;
const TCP: u8 = 6;
const UDP: u8 = 17;
const ICMP: u8 = 1;
const ICMPV6: u8 = 58;
const SCTP: u8 = 132;

/// What a packet carries. `tag` is a number by which the packet, and an answer to it, can be
/// recognised: TCP carries it as sequence number, SCTP as initiate tag, ICMP behind its checksum,
/// UDP and other protocols as their only data.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Payload {
    /// A TCP segment without data.
    Tcp {
        /// Port of the sender.
        source: u16,
        /// Port of the receiver.
        destination: u16,
        /// The control bits (RFC 9293 section 3.1): 2 is SYN.
        flags: u8,
    },
    /// A UDP datagram of four bytes.
    Udp {
        /// Port of the sender.
        source: u16,
        /// Port of the receiver.
        destination: u16,
    },
    /// An SCTP packet that asks for an association: one INIT chunk (RFC 9260 section 3.3.2).
    Sctp {
        /// Port of the sender.
        source: u16,
        /// Port of the receiver.
        destination: u16,
    },
    /// An ICMP or ICMPv6 message, by the packet's version, followed by 24 zero bytes, so that
    /// neighbour discovery messages are whole.
    Icmp {
        /// The type of the message.
        kind: u8,
    },
    /// Eight bytes of another protocol, with a checksum like that of ICMP or ICMPv6: the kernel
    /// answers no packet whose checksum it finds wrong, and of protocols that it does not know
    /// it expects one of this kind.
    Other {
        /// The protocol's number in the IP header.
        protocol: u8,
    },
}

/// Builds a packet from the IP header on. Source and destination must be of one IP version.
///
/// # Panics
/// If they are not.
///
/// # References
/// RFC 791 section 3.1, RFC 8200 section 3 and 8.1, RFC 9293 section 3.1, RFC 768, RFC 792,
/// RFC 4443 section 2.3, RFC 1071, RFC 9260 section 3 and appendix A.
#[must_use]
pub fn build(source: IpAddr, destination: IpAddr, payload: Payload, tag: u32) -> Vec<u8> {
    let (protocol, mut body) = body(payload, tag, source.is_ipv6());
    match payload {
        Payload::Sctp { .. } => {
            // The one checksum that is written with its lowest byte first.
            let sum = Crc::<u32>::new(&CRC_32_ISCSI).checksum(&body);
            body[8..12].copy_from_slice(&sum.to_le_bytes());
        }
        _ => fill_in_checksum(&mut body, payload, protocol, (source, destination)),
    }
    let mut packet = header(source, destination, protocol, body.len());
    packet.append(&mut body);
    packet
}

/// The Internet checksum, where the payload has it.
fn fill_in_checksum(
    body: &mut [u8],
    payload: Payload,
    protocol: u8,
    (source, destination): (IpAddr, IpAddr),
) {
    let checksum_at = match payload {
        Payload::Tcp { .. } => 16,
        Payload::Udp { .. } => 6,
        Payload::Icmp { .. } => 2,
        Payload::Other { .. } => 4,
        Payload::Sctp { .. } => return,
    };
    let pseudo = match payload {
        Payload::Icmp { .. } | Payload::Other { .. } if source.is_ipv4() => Vec::new(),
        _ => pseudo_header(source, destination, protocol, body.len()),
    };
    let sum = checksum(&[&pseudo, body]);
    let sum = if sum == 0 && protocol == UDP { 0xffff } else { sum };
    body[checksum_at..checksum_at + 2].copy_from_slice(&sum.to_be_bytes());
}

fn body(payload: Payload, tag: u32, v6: bool) -> (u8, Vec<u8>) {
    let mut body = Vec::with_capacity(40);
    match payload {
        Payload::Tcp { source, destination, flags } => {
            body.extend(source.to_be_bytes());
            body.extend(destination.to_be_bytes());
            body.extend(tag.to_be_bytes());
            body.extend([0, 0, 0, 0, 5 << 4, flags]);
            body.extend(64_240u16.to_be_bytes());
            body.extend([0; 4]);
            (TCP, body)
        }
        Payload::Udp { source, destination } => {
            body.extend(source.to_be_bytes());
            body.extend(destination.to_be_bytes());
            body.extend(12u16.to_be_bytes());
            body.extend([0; 2]);
            body.extend(tag.to_be_bytes());
            (UDP, body)
        }
        Payload::Sctp { source, destination } => {
            body.extend(source.to_be_bytes());
            body.extend(destination.to_be_bytes());
            // No verification tag yet, the checksum, and a chunk of type 1 with 20 bytes.
            body.extend([0; 8]);
            body.extend([1, 0, 0, 20]);
            body.extend(tag.to_be_bytes());
            // A window as large as the smallest allowed, one stream each way, the first number.
            body.extend(1_500u32.to_be_bytes());
            body.extend([0, 1, 0, 1, 0, 0, 0, 1]);
            (SCTP, body)
        }
        Payload::Icmp { kind } => {
            body.extend([kind, 0, 0, 0]);
            // The first two bytes number a flow, so the part that changes fastest goes there.
            body.extend(tag.rotate_left(16).to_be_bytes());
            body.extend([0; 24]);
            (if v6 { ICMPV6 } else { ICMP }, body)
        }
        Payload::Other { protocol } => {
            body.extend(tag.to_be_bytes());
            body.extend([0; 4]);
            (protocol, body)
        }
    }
}

fn length16(length: usize) -> [u8; 2] {
    // Bodies made here have at most 40 bytes.
    u16::try_from(length).unwrap_or(u16::MAX).to_be_bytes()
}

fn header(source: IpAddr, destination: IpAddr, protocol: u8, body: usize) -> Vec<u8> {
    match (source, destination) {
        (IpAddr::V4(source), IpAddr::V4(destination)) => {
            let mut header = vec![0x45, 0];
            header.extend(length16(20 + body));
            header.extend([0, 0, 0x40, 0, HOP_LIMIT, protocol, 0, 0]);
            header.extend(source.octets());
            header.extend(destination.octets());
            let sum = checksum(&[&header]);
            header[10..12].copy_from_slice(&sum.to_be_bytes());
            header
        }
        (IpAddr::V6(source), IpAddr::V6(destination)) => {
            let mut header = vec![0x60, 0, 0, 0];
            header.extend(length16(body));
            header.extend([protocol, HOP_LIMIT]);
            header.extend(source.octets());
            header.extend(destination.octets());
            header
        }
        _ => panic!("source and destination are of different IP versions"),
    }
}

fn pseudo_header(source: IpAddr, destination: IpAddr, protocol: u8, length: usize) -> Vec<u8> {
    let mut pseudo = Vec::with_capacity(40);
    for address in [source, destination] {
        match address {
            IpAddr::V4(address) => pseudo.extend(address.octets()),
            IpAddr::V6(address) => pseudo.extend(address.octets()),
        }
    }
    // The fields of the IPv6 form add up to the same sum as those of the IPv4 form.
    pseudo.extend(length16(length));
    pseudo.extend([0, protocol]);
    pseudo
}

/// The Internet checksum (RFC 1071) over parts that each have an even number of bytes, but for
/// the last.
fn checksum(parts: &[&[u8]]) -> u16 {
    let mut sum = 0u32;
    for part in parts {
        for pair in part.chunks(2) {
            let word = [pair[0], pair.get(1).copied().unwrap_or(0)];
            sum += u32::from(u16::from_be_bytes(word));
        }
    }
    while sum > 0xffff {
        sum = (sum & 0xffff) + (sum >> 16);
    }
    // Folded to 16 bits just above.
    !u16::try_from(sum).unwrap_or(u16::MAX)
}

#[cfg(test)]
mod tests {
    use super::{CRC_32_ISCSI, Crc, Payload, build, checksum};
    use std::net::IpAddr;

    /// The check value of this checksum (Koopman, 32-bit cyclic redundancy codes, 2002: the CRC of the
    /// digits 1 to 9), and a packet whose sum was worked out bit by bit, with no table.
    #[test]
    fn the_checksum_of_sctp_is_the_one_with_that_polynomial() {
        assert_eq!(Crc::<u32>::new(&CRC_32_ISCSI).checksum(b"123456789"), 0xe306_9283);
        let (source, destination) = ([198, 51, 100, 7].into(), [192, 0, 2, 10].into());
        let payload = Payload::Sctp { source: 40_000, destination: 3_868 };
        let packet = build(source, destination, payload, 0xdead_beef);
        let mut body = packet[20..].to_vec();
        let found = u32::from_le_bytes([body[8], body[9], body[10], body[11]]);
        body[8..12].fill(0);
        let mut sum = u32::MAX;
        for byte in body {
            sum ^= u32::from(byte);
            for _ in 0..8 {
                sum = (sum >> 1) ^ if sum & 1 == 1 { 0x82f6_3b78 } else { 0 };
            }
        }
        assert_eq!(found, !sum);
        assert_eq!(packet[9], 132);
        assert_eq!(packet[20..24], [0x9c, 0x40, 0x0f, 0x1c]);
    }

    #[test]
    fn checksums_verify() {
        let pairs: [(IpAddr, IpAddr); 2] = [
            ([198, 51, 100, 7].into(), [192, 0, 2, 10].into()),
            (
                "2001:db8:51::7".parse().expect("address"),
                "2001:db8:2::10".parse().expect("address"),
            ),
        ];
        for (source, destination) in pairs {
            let tcp = Payload::Tcp { source: 40_000, destination: 2_202, flags: 2 };
            for payload in
                [tcp, Payload::Udp { source: 9, destination: 53 }, Payload::Icmp { kind: 8 }]
            {
                let packet = build(source, destination, payload, 0xdead_beef);
                let (header, body) = packet.split_at(if source.is_ipv4() { 20 } else { 40 });
                let protocol = if source.is_ipv4() { header[9] } else { header[6] };
                let pseudo = if protocol == 1 {
                    Vec::new()
                } else {
                    super::pseudo_header(source, destination, protocol, body.len())
                };
                assert_eq!(checksum(&[&pseudo, body]), 0, "{payload:?}");
                if source.is_ipv4() {
                    assert_eq!(checksum(&[header]), 0);
                }
            }
        }
    }
}
