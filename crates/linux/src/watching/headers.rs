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

/// Reads the headers; `None` if they are cut short.
pub(super) fn read(network: &[u8], transport: &[u8]) -> Option<Headers> {
    let (source, destination, protocol): (IpAddr, IpAddr, u8) = match network.first()? >> 4 {
        4 => {
            let address = |at: usize| {
                Some(Ipv4Addr::from(<[u8; 4]>::try_from(network.get(at..at + 4)?).ok()?))
            };
            (address(12)?.into(), address(16)?.into(), *network.get(9)?)
        }
        6 => {
            let address = |at: usize| {
                Some(Ipv6Addr::from(<[u8; 16]>::try_from(network.get(at..at + 16)?).ok()?))
            };
            (address(8)?.into(), address(24)?.into(), *network.get(6)?)
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
    use super::{Headers, read};
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
            for cut in 0..header {
                let _ = read(&packet[..cut], &[]);
            }
        }
        assert_eq!(read(&[], &[]), None);
        assert_eq!(read(&[0x45; 12], &[]), None);
    }
}
