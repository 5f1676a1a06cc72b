//! What entries of the record are told apart by.

use super::form::WITH_PORTS;
use super::layout::{ADDRESS, DECISION, KEY, KIND, PORT, PROTOCOL, SEVERAL, SEVERAL_OF_MANY};
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use tipstaff_core::space::{ICMP, ICMPV6};
use tipstaff_wire::nf_tables::{FAMILY_IPV4, FAMILY_IPV6, registers};

/// The other end of packets: who sent them to this machine or through it, or whom this machine sent them to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Who {
    /// One address.
    Address(IpAddr),
    /// Several of a network, by its first address and prefix length: of one network are no more than 1,024
    /// entries kept apart.
    Network(IpAddr, u8),
}

/// What packets were for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Wanted {
    /// The protocol's number, and the port that they went to.
    Port(u8, u16),
    /// ICMP or ICMPv6, by number, with the type of message and its code.
    Icmp(u8, u8, u8),
    /// A protocol without ports, or one whose ports could not be seen.
    Protocol(u8),
    /// More than are kept apart.
    Several,
}

/// The key of an entry.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Key {
    pub who: Who,
    pub wanted: Wanted,
    pub decision: u32,
}

impl Key {
    /// How many packets an element has met that has counted so many. The first one it counts once, as those do
    /// that come at the same time on another processor; every other one is found, and renews its time, which counts
    /// it twice. What of several networks is counted together is never looked for.
    pub(super) fn count(self, counted: u64) -> u64 {
        match (self.wanted, self.who) {
            (Wanted::Several, Who::Network(_, 48)) => counted,
            _ => counted / 2 + 1,
        }
    }

    /// What an element has counted that has met so many packets.
    pub(super) fn counted(self, packets: u64) -> u64 {
        match (self.wanted, self.who) {
            (Wanted::Several, Who::Network(_, 48)) => packets,
            _ => (packets * 2).saturating_sub(1),
        }
    }

    /// As the kernel has it.
    pub(super) fn bytes(self) -> Vec<u8> {
        let (kind, address) = match self.who {
            Who::Address(it) | Who::Network(it, _) => match it {
                IpAddr::V4(it) => (FAMILY_IPV4, it.octets().to_vec()),
                IpAddr::V6(it) => (FAMILY_IPV6, it.octets().to_vec()),
            },
        };
        let (protocol, port) = match (self.wanted, self.who) {
            (Wanted::Port(protocol, port), _) => ([protocol, 0, 0, 0], port.to_be_bytes()),
            (Wanted::Icmp(protocol, kind, code), _) => ([protocol, 0, 0, 0], [kind, code]),
            (Wanted::Protocol(protocol), _) => ([protocol, 0, 0, 0], [0; 2]),
            (Wanted::Several, Who::Network(_, 48)) => (SEVERAL_OF_MANY, [0; 2]),
            (Wanted::Several, _) => (SEVERAL, [0; 2]),
        };
        let mut key = vec![kind, 0, 0, 0];
        key.extend(protocol);
        key.extend([port[0], port[1], 0, 0]);
        key.extend(self.decision.to_ne_bytes());
        key.extend(address);
        key.resize(KEY as usize, 0);
        key
    }

    /// Reads what [`Key::bytes`] writes.
    pub(super) fn parse(key: &[u8]) -> Option<Self> {
        let key: &[u8; KEY as usize] = key.try_into().ok()?;
        let word = |register: u32| -> Option<[u8; 4]> {
            let at = (registers::word(register) - registers::FIRST_WORD) as usize * 4;
            key.get(at..at + 4)?.try_into().ok()
        };
        let rest = &key[KEY as usize / 2..];
        let address: IpAddr = match word(KIND)?[0] {
            FAMILY_IPV4 => Ipv4Addr::from(word(ADDRESS)?).into(),
            FAMILY_IPV6 => Ipv6Addr::from(<[u8; 16]>::try_from(rest).ok()?).into(),
            _ => return None,
        };
        let [high, low, ..] = word(PORT)?;
        let protocol = word(PROTOCOL)?;
        let (who, wanted) = match protocol {
            SEVERAL if address.is_ipv6() => (Who::Network(address, 64), Wanted::Several),
            SEVERAL_OF_MANY if address.is_ipv6() => (Who::Network(address, 48), Wanted::Several),
            SEVERAL | SEVERAL_OF_MANY => (Who::Address(address), Wanted::Several),
            [number @ (ICMP | ICMPV6), ..] => {
                (Who::Address(address), Wanted::Icmp(number, high, low))
            }
            [number, ..] if WITH_PORTS.contains(&number) => {
                (Who::Address(address), Wanted::Port(number, u16::from_be_bytes([high, low])))
            }
            [number, ..] => (Who::Address(address), Wanted::Protocol(number)),
        };
        Some(Self { who, wanted, decision: u32::from_ne_bytes(word(DECISION)?) })
    }
}

#[cfg(test)]
mod tests {
    use super::{Key, Wanted, Who};

    #[test]
    fn keys_are_read_as_they_are_written() {
        let address = |text: &str| Who::Address(text.parse().expect("an address"));
        let network = |text: &str, bits| Who::Network(text.parse().expect("an address"), bits);
        for (who, wanted) in [
            (address("10.44.8.30"), Wanted::Port(6, 5432)),
            (address("2001:db8:4::9"), Wanted::Port(17, 53)),
            (address("10.44.8.30"), Wanted::Icmp(1, 8, 0)),
            (address("2001:db8:4::9"), Wanted::Icmp(58, 128, 0)),
            (address("10.44.8.30"), Wanted::Protocol(47)),
            (address("10.44.8.30"), Wanted::Several),
            (network("2001:db8:4:7::", 64), Wanted::Several),
            (network("2001:db8:4::", 48), Wanted::Several),
        ] {
            let key = Key { who, wanted, decision: 70_000 };
            assert_eq!(Key::parse(&key.bytes()), Some(key));
        }
        assert_eq!(Key::parse(&[0; 32]), None);
        assert_eq!(Key::parse(&[2; 31]), None);
    }
}
