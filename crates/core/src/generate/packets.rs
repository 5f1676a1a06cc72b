//! Packets made up for a plan.

use super::policies::{Generator, HOST};
use super::words::{BLOCKS, PROGRAMS, USERS};
use crate::plan::HostPlan;
use crate::space::{
    AddressSet, ByProtocol, ConnectionState, Direction, Family, Packet, Point, PortProtocol,
    RangeSet, Relation, Tracking, Transport,
};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Kinds of ICMP and of ICMPv6 that a host meets.
const ICMP_KINDS: [u8; 6] = [0, 3, 8, 11, 13, 128];
const ICMPV6_KINDS: [u8; 7] = [1, 128, 129, 130, 135, 136, 143];
/// IGMP, GRE, and a number for experiments (RFC 3692).
const OTHER_PROTOCOLS: [u8; 3] = [2, 47, 253];

/// Gives the host of a generated policy its addresses, if the policy leaves them out.
pub fn settle(plan: &mut HostPlan) {
    let address = |text: &str| {
        let address: IpAddr = text.parse().ok()?;
        Some((address, if address.is_ipv4() { 24 } else { 64 }))
    };
    let all: Vec<(IpAddr, u8)> = HOST.into_iter().filter_map(address).collect();
    plan.at_the_moment(&all, &[]);
}

impl Generator {
    /// A packet that a neighbour, or the host itself, could send in a lab: it begins a flow, or
    /// is of a kind that connection tracking calls invalid or does not track.
    pub fn packet(&mut self, plan: &HostPlan) -> Packet {
        let packet = self.anything(plan);
        plan.related(packet)
    }

    fn anything(&mut self, plan: &HostPlan) -> Packet {
        let direction = *self.pick(&Direction::ALL);
        let family = *self.pick(&Family::BOTH);
        let own = |family| plan.addresses.iter().find(|it| Family::of(**it) == family);
        let here = own(family).copied().unwrap_or(match family {
            Family::V4 => Ipv4Addr::LOCALHOST.into(),
            Family::V6 => Ipv6Addr::LOCALHOST.into(),
        });
        let (source, destination) = match direction {
            Direction::Inbound => (self.stranger(plan, family), here),
            Direction::Outbound => (here, self.stranger(plan, family)),
            Direction::Forwarded => (self.stranger(plan, family), self.stranger(plan, family)),
        };
        let (transport, state) = self.transport(plan, family);
        let mut interface = || self.pick(&[Some("eth0"), Some("eth1"), None]).map(str::to_owned);
        let (in_interface, out_interface) = match direction {
            Direction::Inbound => (interface(), None),
            Direction::Outbound => (None, interface()),
            Direction::Forwarded => (interface(), interface()),
        };
        // Whoever sends forwarded packets is elsewhere.
        let named = direction != Direction::Forwarded && self.one_in(3);
        let program = named.then(|| (*self.pick(&PROGRAMS)).to_owned());
        let owned = direction != Direction::Forwarded && self.one_in(3);
        let user = owned.then(|| (*self.pick(&USERS)).to_owned());
        Packet {
            direction,
            in_interface,
            out_interface,
            source,
            destination,
            transport,
            state,
            program,
            user,
            asked: None,
            source_is: Relation::default(),
            destination_is: Relation::default(),
        }
    }

    /// In one of three cases the same packet, led here from a port at or next to one that rules name.
    pub fn led(&mut self, packet: Packet, plan: &HostPlan) -> Packet {
        if packet.direction == Direction::Outbound || packet.ports().is_none() || !self.one_in(3) {
            return packet;
        }
        let named: Vec<(u16, u16)> = plan
            .decisions()
            .flat_map(|(_, decision)| &decision.conditions)
            .filter(|it| !it.published.is_full())
            .flat_map(|it| it.published.ranges().to_vec())
            .collect();
        let asked = self.near(&named).unwrap_or(8_088);
        Packet { asked: Some(asked), ..packet }
    }

    /// A packet at or next to an end of what some decision of `plan` takes, so that long lists
    /// are met at all of their rules.
    pub fn packet_for(&mut self, plan: &HostPlan) -> Packet {
        let mut packet = self.packet(plan);
        self.aim(&mut packet, plan);
        plan.related(packet)
    }

    /// Changes a packet so that it is at or next to an end of what some decision takes.
    pub fn aim(&mut self, packet: &mut Packet, plan: &HostPlan) {
        let family = packet.family();
        let decisions = &plan.chain(packet.direction).decisions;
        let decision = &decisions[self.below(decisions.len())];
        let Some(condition) = decision.conditions.first() else { return };
        let near = |it: &mut Self, set: &AddressSet| match family {
            Family::V4 => it.near(set.v4.ranges()).map(|bits| Ipv4Addr::from_bits(bits).into()),
            Family::V6 => it.near(set.v6.ranges()).map(|bits| Ipv6Addr::from_bits(bits).into()),
        };
        if let (false, Some(source)) = (condition.source.is_full(), near(self, &condition.source)) {
            packet.source = source;
        }
        if let (false, Some(destination)) =
            (condition.destination.is_full(), near(self, &condition.destination))
        {
            packet.destination = destination;
        }
        let source = 1_024;
        let near = ByProtocol::new(|it| self.near(condition.traffic.ports[it].ranges()));
        let choices: Vec<(PortProtocol, u16)> =
            near.iter().filter_map(|(protocol, port)| Some((protocol, (*port)?))).collect();
        packet.state = ConnectionState::New;
        if !choices.is_empty() {
            let (protocol, destination) = *self.pick(&choices);
            packet.transport = Transport::Ports { protocol, source, destination };
        }
    }

    /// A value at or next to an end of one of the ranges, or within it.
    fn near<T: Point>(&mut self, ranges: &[(T, T)]) -> Option<T> {
        let (first, last) = *ranges.get(self.below(ranges.len().max(1)))?;
        Some(match self.below(8) {
            0 => first.previous().unwrap_or(first),
            1 => last.next().unwrap_or(last),
            2 => last,
            3 => first.next().filter(|it| *it <= last).unwrap_or(first),
            _ => first,
        })
    }

    /// An address that is not the host's own, at or near the end of a range that the plan tells
    /// apart.
    fn stranger(&mut self, plan: &HostPlan, family: Family) -> IpAddr {
        loop {
            let block: ipnet::IpNet = {
                let text = *self.pick(&BLOCKS);
                let text = if text.contains('/') {
                    text.to_owned()
                } else if text.contains(':') {
                    format!("{text}/128")
                } else {
                    format!("{text}/32")
                };
                text.parse().unwrap_or_default()
            };
            let step = self.below(3) as u128;
            let address: IpAddr = match (block, self.one_in(2)) {
                (ipnet::IpNet::V4(net), first) => {
                    let step = u32::try_from(step).unwrap_or(0);
                    let (low, high) = (net.network().to_bits(), net.broadcast().to_bits());
                    let bits = if first {
                        low.wrapping_add(step).wrapping_sub(1)
                    } else {
                        high.wrapping_sub(step).wrapping_add(1)
                    };
                    Ipv4Addr::from_bits(bits).into()
                }
                (ipnet::IpNet::V6(net), first) => {
                    let (low, high) = (net.network().to_bits(), net.broadcast().to_bits());
                    let bits = if first {
                        low.wrapping_add(step).wrapping_sub(1)
                    } else {
                        high.wrapping_sub(step).wrapping_add(1)
                    };
                    Ipv6Addr::from_bits(bits).into()
                }
            };
            // Broadcasts and the subnet-router anycast address are not handled like others.
            let usable = match address {
                IpAddr::V4(it) => !matches!(it.octets()[3], 0 | 255),
                IpAddr::V6(it) => it.segments()[7] != 0,
            };
            if Family::of(address) == family && usable && !plan.addresses.contains(&address) {
                return address;
            }
        }
    }

    fn transport(&mut self, plan: &HostPlan, family: Family) -> (Transport, ConnectionState) {
        use ConnectionState::New;
        // Away from the ports of DHCP, and different each time, so that flows are new.
        let source = 1_024 + u16::try_from(self.below(60_000)).unwrap_or(0);
        match self.below(10) {
            0 => {
                let kind = match family {
                    Family::V4 => *self.pick(&ICMP_KINDS),
                    Family::V6 => *self.pick(&ICMPV6_KINDS),
                };
                let transport = Transport::Icmp { kind };
                (transport, Tracking::default().state_alone(transport, family))
            }
            1 => (Transport::Other { protocol: *self.pick(&OTHER_PROTOCOLS) }, New),
            choice => {
                let destination = self.port(plan);
                // One in eight is of a protocol that few services have.
                let protocol = match choice {
                    2 => PortProtocol::Sctp,
                    choice if choice % 2 == 0 => PortProtocol::Tcp,
                    _ => PortProtocol::Udp,
                };
                (Transport::Ports { protocol, source, destination }, New)
            }
        }
    }

    /// A port at or next to the end of a range that the plan tells apart, or any other.
    fn port(&mut self, plan: &HostPlan) -> u16 {
        let ends: Vec<u16> = plan
            .decisions()
            .flat_map(|(_, decision)| &decision.conditions)
            .flat_map(|it| it.traffic.ports.values().flat_map(RangeSet::ranges))
            .flat_map(|&(first, last)| [first, last])
            .collect();
        let port = if ends.is_empty() || self.one_in(8) {
            u16::try_from(self.below(65_536)).unwrap_or(1)
        } else {
            let step = u16::try_from(self.below(3)).unwrap_or(1);
            self.pick(&ends).wrapping_add(step).wrapping_sub(1)
        };
        port.max(1)
    }
}
