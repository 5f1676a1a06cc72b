//! Recognising packets made by [`super::build`], and answers to them.

/// How a packet was answered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// A TCP segment that resets the connection.
    Reset,
    /// ICMP or ICMPv6 "administratively prohibited".
    Prohibited,
    /// Another ICMP or ICMPv6 error.
    OtherError,
}

/// What a packet turned out to be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Seen {
    /// A probe, with its tag.
    Probe(u32),
    /// An answer to the probe of that tag.
    Answer(u32, Answer),
    /// Neither a probe nor an answer to one.
    Foreign,
}

const TCP: u8 = 6;
const ICMP: u8 = 1;
const ICMPV6: u8 = 58;
const SCTP: u8 = 132;
const RESET: u8 = 4;
const UNREACHABLE: u8 = 3;
const UNREACHABLE_V6: u8 = 1;
/// Types below this are errors in ICMPv6 (RFC 4443 section 2.1).
const FIRST_INFORMATIONAL_V6: u8 = 128;
/// Communication administratively prohibited (RFC 1812 section 5.2.7.1).
const PROHIBITED: u8 = 13;
/// Communication with destination administratively prohibited (RFC 4443 section 3.1).
const PROHIBITED_V6: u8 = 1;

/// Looks at a packet from its IP header on. Anything that is cut short is foreign.
#[must_use]
pub fn parse(packet: &[u8]) -> Seen {
    look(packet).unwrap_or(Seen::Foreign)
}

fn look(packet: &[u8]) -> Option<Seen> {
    let (protocol, body) = split(packet)?;
    match protocol {
        TCP if body.get(13)? & RESET != 0 => {
            // A reset answers a SYN with its sequence number and one.
            Some(Seen::Answer(word(body, 8)?.wrapping_sub(1), Answer::Reset))
        }
        ICMP | ICMPV6 => {
            let (kind, code) = (*body.first()?, *body.get(1)?);
            let is_error = match protocol {
                ICMP => matches!(kind, 3 | 4 | 5 | 11 | 12),
                _ => kind < FIRST_INFORMATIONAL_V6,
            };
            // A probe has zeros where an error has the packet that it is about.
            match body.get(8..).filter(|_| is_error).and_then(split) {
                Some((inner, rest)) => {
                    let prohibited = if protocol == ICMP {
                        (kind, code) == (UNREACHABLE, PROHIBITED)
                    } else {
                        (kind, code) == (UNREACHABLE_V6, PROHIBITED_V6)
                    };
                    let answer = if prohibited { Answer::Prohibited } else { Answer::OtherError };
                    Some(Seen::Answer(tag(inner, rest)?, answer))
                }
                None => Some(Seen::Probe(tag(protocol, body)?)),
            }
        }
        protocol => Some(Seen::Probe(tag(protocol, body)?)),
    }
}

/// The protocol and what stands behind the IP header.
fn split(packet: &[u8]) -> Option<(u8, &[u8])> {
    match packet.first()? >> 4 {
        4 => {
            let header = usize::from(packet[0] & 0xf) * 4;
            Some((*packet.get(9)?, packet.get(header..)?))
        }
        6 => Some((*packet.get(6)?, packet.get(40..)?)),
        _ => None,
    }
}

fn tag(protocol: u8, body: &[u8]) -> Option<u32> {
    match protocol {
        TCP => word(body, 4),
        ICMP | ICMPV6 => word(body, 4).map(|word| word.rotate_right(16)),
        17 => word(body, 8),
        // Of the chunk that asks for an association, and no other.
        SCTP if *body.get(12)? == 1 => word(body, 16),
        SCTP => None,
        _ => word(body, 0),
    }
}

fn word(bytes: &[u8], at: usize) -> Option<u32> {
    bytes.get(at..at + 4)?.try_into().ok().map(u32::from_be_bytes)
}

#[cfg(test)]
mod tests {
    use super::{Answer, Seen, parse};
    use crate::packet::{Payload, build};
    use std::net::IpAddr;

    const A: [u8; 4] = [198, 51, 100, 7];
    const B: [u8; 4] = [192, 0, 2, 10];

    #[test]
    fn probes_are_recognised_whatever_they_carry() {
        let (v4, v6): ((IpAddr, IpAddr), (IpAddr, IpAddr)) = (
            (A.into(), B.into()),
            (
                "2001:db8:51::7".parse().expect("address"),
                "2001:db8:2::10".parse().expect("address"),
            ),
        );
        for (source, destination) in [v4, v6] {
            for payload in [
                Payload::Tcp { source: 1, destination: 2, flags: 2 },
                Payload::Udp { source: 1, destination: 2 },
                Payload::Sctp { source: 1, destination: 2 },
                Payload::Icmp { kind: 8 },
                Payload::Icmp { kind: 3 },
                Payload::Icmp { kind: 128 },
                Payload::Other { protocol: 47 },
            ] {
                let packet = build(source, destination, payload, 0x0a0b_0c0d);
                assert_eq!(parse(&packet), Seen::Probe(0x0a0b_0c0d), "{payload:?}");
                for cut in 0..20 {
                    assert_eq!(parse(&packet[..cut]), Seen::Foreign);
                }
            }
        }
    }

    #[test]
    fn a_prohibition_names_the_probe_it_answers() {
        let probe = build(A.into(), B.into(), Payload::Udp { source: 9, destination: 53 }, 77);
        let mut answer = build(B.into(), A.into(), Payload::Icmp { kind: 3 }, 0);
        answer.truncate(28);
        answer[21] = 13;
        answer.extend(&probe);
        assert_eq!(parse(&answer), Seen::Answer(77, Answer::Prohibited));
    }
}
