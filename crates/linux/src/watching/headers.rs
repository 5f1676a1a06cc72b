//! What the headers of a packet say (RFC 791, RFC 8200).

use crate::ruleset::Wanted;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use tipstaff_core::space::{ICMP, ICMPV6, PortProtocol};

/// What the headers of a packet say.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Headers {
    pub source: IpAddr,
    pub destination: IpAddr,
    pub wanted: Wanted,
    /// The port that it comes from, where it has ports.
    pub source_port: Option<u16>,
}

/// Headers of IPv6 that say what comes behind them, and how long they are in units of 8 bytes (RFC 8200 section 4):
/// options for each hop, routing, and options for the receiver.
const WITH_LENGTH: [u8; 3] = [0, 43, 60];
const FRAGMENT: u8 = 44;
/// Of 4 bytes (RFC 4302).
const AUTHENTICATION: u8 = 51;
/// A packet with more of them is read as far as that.
const MOST: usize = 8;

/// Reads the headers of a whole packet; `None` if they are cut short.
pub(super) fn of(packet: &[u8]) -> Option<Headers> {
    if packet.first()? >> 4 != 6 {
        let (network, transport) = packet.split_at_checked(usize::from(packet[0] & 15) * 4)?;
        return read(network, transport);
    }
    let (network, mut rest) = packet.split_at_checked(40)?;
    let mut protocol = network[6];
    for _ in 0..MOST {
        let length = match (protocol, rest.get(1)) {
            (FRAGMENT, _) => 8,
            (AUTHENTICATION, Some(length)) => (usize::from(*length) + 2) * 4,
            (it, Some(length)) if WITH_LENGTH.contains(&it) => (usize::from(*length) + 1) * 8,
            _ => break,
        };
        let Some((header, behind)) = rest.split_at_checked(length) else { break };
        // Of a fragment that is not the first, the ports are elsewhere.
        let first = protocol != FRAGMENT || u16::from_be_bytes([header[2], header[3]]) >> 3 == 0;
        (protocol, rest) = (header[0], if first { behind } else { &[] });
    }
    read_as(network, protocol, rest)
}

/// Reads the headers; `None` if they are cut short.
pub(super) fn read(network: &[u8], transport: &[u8]) -> Option<Headers> {
    let protocol = match network.first()? >> 4 {
        4 => *network.get(9)?,
        _ => *network.get(6)?,
    };
    read_as(network, protocol, transport)
}

fn read_as(network: &[u8], protocol: u8, transport: &[u8]) -> Option<Headers> {
    let (source, destination): (IpAddr, IpAddr) = match network.first()? >> 4 {
        4 => {
            let address = |at: usize| {
                Some(Ipv4Addr::from(<[u8; 4]>::try_from(network.get(at..at + 4)?).ok()?))
            };
            (address(12)?.into(), address(16)?.into())
        }
        6 => {
            let address = |at: usize| {
                Some(Ipv6Addr::from(<[u8; 16]>::try_from(network.get(at..at + 16)?).ok()?))
            };
            (address(8)?.into(), address(24)?.into())
        }
        _ => return None,
    };
    let port = |at: usize| Some(u16::from_be_bytes([*transport.get(at)?, *transport.get(at + 1)?]));
    let (wanted, source_port) = match protocol {
        ICMP | ICMPV6 => match (transport.first(), transport.get(1)) {
            (Some(kind), Some(code)) => (Wanted::Icmp(protocol, *kind, *code), None),
            _ => (Wanted::Protocol(protocol), None),
        },
        _ if PortProtocol::of_number(protocol).is_some() => match port(2) {
            Some(to) => (Wanted::Port(protocol, to), port(0)),
            None => (Wanted::Protocol(protocol), None),
        },
        _ => (Wanted::Protocol(protocol), None),
    };
    Some(Headers { source, destination, wanted, source_port })
}

#[cfg(test)]
mod tests {
    use super::{Headers, of, read};
    use crate::ruleset::Wanted;
    use tipstaff_wire::packet::{Payload, build};

    #[test]
    fn headers_are_read_as_they_are_built() {
        let [a, b] = ["198.51.100.7", "192.0.2.10"].map(|it| it.parse().expect("an address"));
        let [c, d] = ["2001:db8:51::7", "2001:db8:2::10"].map(|it| it.parse().expect("an address"));
        for (source, destination, header, payload, wanted, source_port) in [
            (
                a,
                b,
                20,
                Payload::Tcp { source: 9, destination: 22, flags: 2 },
                Wanted::Port(6, 22),
                Some(9),
            ),
            (a, b, 20, Payload::Udp { source: 9, destination: 53 }, Wanted::Port(17, 53), Some(9)),
            (a, b, 20, Payload::Icmp { kind: 8 }, Wanted::Icmp(1, 8, 0), None),
            (a, b, 20, Payload::Other { protocol: 47 }, Wanted::Protocol(47), None),
            (c, d, 40, Payload::Udp { source: 9, destination: 53 }, Wanted::Port(17, 53), Some(9)),
            (c, d, 40, Payload::Icmp { kind: 128 }, Wanted::Icmp(58, 128, 0), None),
        ] {
            let packet = build(source, destination, payload, 1);
            let found = read(&packet[..header], &packet[header..]);
            assert_eq!(found, Some(Headers { source, destination, wanted, source_port }));
            assert_eq!(of(&packet), found);
            if header == 40 {
                // Options for each hop, and a first fragment, ahead of it.
                let mut long = packet.clone();
                let options = [44, 0, 1, 4, 0, 0, 0, 0, packet[6], 0, 0, 1, 0, 0, 0, 7];
                long.splice(40..40, options);
                long[6] = 0;
                assert_eq!(of(&long), found);
                long[51] = 8;
                assert_eq!(of(&long).map(|it| it.wanted), Some(Wanted::Protocol(packet[6])));
            }
            for cut in 0..packet.len() {
                let _ = of(&packet[..cut]);
            }
            for cut in 0..header {
                let _ = read(&packet[..cut], &[]);
            }
        }
        assert_eq!(read(&[], &[]), None);
        assert_eq!(read(&[0x45; 12], &[]), None);
    }
}
