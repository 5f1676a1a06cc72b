//! What addresses are to a host whose policy does not list its own.

use super::model::HostPlan;
use crate::space::{AddressSet, Block, Direction, Family, Packet, Relation};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

impl HostPlan {
    /// Tells the plan which addresses the host has at the moment, each with its prefix length, loopback
    /// addresses aside. Where the policy lists them, nothing changes.
    ///
    /// `far_ends` are the addresses at the other end of links with just two, with their prefix lengths.
    pub fn at_the_moment(&mut self, addresses: &[(IpAddr, u8)], far_ends: &[(IpAddr, u8)]) {
        if self.moving {
            self.addresses = addresses.iter().map(|it| it.0).collect();
            let single = |address: IpAddr| AddressSet::single(address);
            let far: AddressSet = far_ends.iter().map(|it| single(it.0)).collect();
            let block = |it: &(IpAddr, u8)| {
                Block::parse_with_network(&format!("{}/{}", it.0, it.1)).map(|it| it.1)
            };
            self.broadcasts =
                addresses.iter().filter_map(block).filter_map(|it| it.broadcasts()).collect();
            self.on_link = networks(addresses).union(&networks(far_ends)).union(&far);
        }
    }

    /// What an address is to the host at the moment. Where the policy lists its addresses, nobody asks.
    #[must_use]
    pub fn relation(&self, address: IpAddr) -> Relation {
        Relation {
            own: self.moving && (address.is_loopback() || self.addresses.contains(&address)),
            on_link: self.moving && self.on_link.contains(address),
        }
    }

    /// Puts down in a packet what its addresses are to the host at the moment.
    #[must_use]
    pub fn related(&self, mut packet: Packet) -> Packet {
        packet.source_is = self.relation(packet.source);
        packet.destination_is = self.relation(packet.destination);
        packet
    }

    /// Whether the host would answer a packet that it rejects: not what is for many, the broadcast
    /// addresses of its own networks included, nor what [`Packet::may_be_answered`] excludes.
    #[must_use]
    pub fn may_answer(&self, packet: &Packet) -> bool {
        let for_many = self.broadcasts.iter().any(|[first, last]| {
            // What comes in for the first address does so only where that still is one of broadcasts
            // (Linux before 5.14).
            packet.destination == *last
                || (packet.direction == Direction::Inbound && packet.destination == *first)
        });
        !for_many && packet.may_be_answered()
    }

    /// The first of the host's addresses of an IP version; where the policy leaves them out and none is
    /// known, one that stands for it (RFC 5737, RFC 3849).
    #[must_use]
    pub fn here(&self, family: Family) -> Option<IpAddr> {
        let known = self.addresses.iter().copied().find(|it| Family::of(*it) == family);
        let stands = || STANDS_FOR_IT.into_iter().map(|it| it.0);
        let nobody_knows = self.moving && self.addresses.is_empty();
        known.or_else(|| stands().find(|it| nobody_knows && Family::of(*it) == family))
    }

    /// Where the policy leaves the host's addresses out and none is known: gives it some, to see how its
    /// rules fare with them.
    pub fn give_it_addresses(&mut self) {
        if self.addresses.is_empty() {
            self.at_the_moment(&STANDS_FOR_IT, &[]);
        }
    }
}

/// Addresses with prefix lengths for a host that has none.
const STANDS_FOR_IT: [(IpAddr, u8); 2] = [
    (IpAddr::V4(Ipv4Addr::new(192, 0, 2, 1)), 24),
    (IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1)), 64),
];

/// The networks of addresses that are written with their prefix lengths: those of all but single
/// addresses, and where one is of IPv6, the link-local network that every interface then is on
/// (RFC 4291 section 2.5.6).
fn networks(addresses: &[(IpAddr, u8)]) -> AddressSet {
    let network = |&(address, prefix): &(IpAddr, u8)| {
        Block::parse_with_network(&format!("{address}/{prefix}")).map(|it| it.1.addresses())
    };
    let all: AddressSet = addresses.iter().filter_map(network).collect();
    let link_local = Block::parse("fe80::/64").ok().filter(|_| all.has(Family::V6));
    link_local.iter().fold(all, |all, more| all.union(&more.addresses()))
}
