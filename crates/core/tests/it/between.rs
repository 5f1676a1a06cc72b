//! From one host to another: what is said of regions, against packets that each host is asked about by itself.

use crate::analysis::given;
use std::collections::BTreeSet;
use tipstaff_core::analysis::{Leg, between, ordinary};
use tipstaff_core::generate::Generator;
use tipstaff_core::plan::{HostPlan, RuleId};
use tipstaff_core::policy::Verdict;
use tipstaff_core::space::{Direction, Packet, Piece};

/// How a packet fares on its own: each host is asked about it as it sees it.
fn alone(legs: &[Leg<'_>], seen: &[Packet]) -> Vec<RuleId> {
    let mut by = Vec::new();
    for (leg, packet) in legs.iter().zip(seen) {
        let decision = leg.plan.decision(packet);
        by.push(decision.id.clone());
        if decision.act.verdict() != Verdict::Allow {
            break;
        }
    }
    by
}

/// A packet as somebody on the way sees it: what he knows of it besides is by chance.
fn seen(dice: &mut Generator, leg: &Leg<'_>, wire: &Packet) -> Packet {
    loop {
        let other = dice.packet_for(leg.plan);
        let packet = Packet {
            direction: leg.direction,
            source: wire.source,
            destination: wire.destination,
            transport: wire.transport,
            state: wire.state,
            asked: None,
            source_is: wire.source_is,
            destination_is: wire.destination_is,
            ..other.clone()
        };
        if other.direction == leg.direction && ordinary(leg.plan, leg.direction).contains(&packet) {
            return packet;
        }
    }
}

fn on_the_wire(piece: &Piece, packet: &Packet) -> bool {
    let bare = Packet {
        in_interface: None,
        out_interface: None,
        program: None,
        user: None,
        asked: None,
        ..packet.clone()
    };
    piece.contains(&bare)
}

#[test]
fn what_every_host_says_is_what_becomes_of_a_packet() {
    let (mut asked, mut fates) = (0, BTreeSet::new());
    for seed in 0..60 {
        let plan = |seed: u64| given(&Generator::new(seed).policy()).1;
        let [sender, router, mut receiver] =
            [plan(3 * seed), plan(3 * seed + 1), plan(3 * seed + 2)];
        // All have the addresses of the same host, so both ends are told apart.
        receiver.addresses.iter_mut().for_each(|it| *it = next(*it));
        let moving: &[&HostPlan] = &[&sender, &receiver];
        if moving.iter().any(|it| it.moving || it.addresses.is_empty()) {
            continue;
        }
        let leg = |plan, direction| Leg { plan, direction };
        let (first, last) = (leg(&sender, Direction::Outbound), leg(&receiver, Direction::Inbound));
        let through = leg(&router, Direction::Forwarded);
        for legs in [vec![first, last], vec![first, through, last]] {
            let region = Piece {
                destination: ordinary(&receiver, Direction::Inbound).destination,
                ..Piece::full()
            };
            let Some(told) = between(&legs, &region) else { continue };
            let mut dice = Generator::new(1_000 + seed);
            for _ in 0..60 {
                let wire = wire(&mut dice, &sender, &receiver);
                let packets: Vec<Packet> =
                    legs.iter().map(|it| seen(&mut dice, it, &wire)).collect();
                let by = alone(&legs, &packets);
                let found = told.iter().find(|it| it.by.iter().map(|it| &it.id).eq(by.iter()));
                let found =
                    found.unwrap_or_else(|| panic!("seed {seed}: nobody said {by:?} of {wire:?}"));
                let holds = found.pieces.iter().filter(|it| on_the_wire(it, &wire)).count();
                assert_eq!(holds, 1, "seed {seed}: {by:?} of {wire:?}");
                asked += 1;
                fates.insert(found.arrives());
            }
            // Whatever is told of is told of some packet: none of it is empty.
            assert!(told.iter().all(|it| it.pieces.iter().all(|it| !it.is_empty())));
        }
    }
    assert!(asked > 3_000 && fates.len() == 2, "{asked} {fates:?}");
}

/// The address behind.
fn next(address: std::net::IpAddr) -> std::net::IpAddr {
    match address {
        std::net::IpAddr::V4(it) => std::net::Ipv4Addr::from(u32::from(it).wrapping_add(1)).into(),
        std::net::IpAddr::V6(it) => std::net::Ipv6Addr::from(u128::from(it).wrapping_add(1)).into(),
    }
}

/// A first packet from the one to the other.
fn wire(dice: &mut Generator, sender: &HostPlan, receiver: &HostPlan) -> Packet {
    loop {
        let packet = dice.packet_for(receiver);
        let source = sender.addresses[dice.below(sender.addresses.len())];
        let destination = receiver.addresses[dice.below(receiver.addresses.len())];
        let packet = Packet { source, destination, direction: Direction::Inbound, ..packet };
        let fits = source.is_ipv4() == destination.is_ipv4() && is_of(&packet);
        if fits && ordinary(receiver, Direction::Inbound).states.contains(packet.state) {
            return packet;
        }
    }
}

/// Whether its ICMP is that of its addresses.
fn is_of(packet: &Packet) -> bool {
    use tipstaff_core::space::TrafficSet;
    TrafficSet::any().contains(packet)
}
