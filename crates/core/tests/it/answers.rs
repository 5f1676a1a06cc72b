//! Answers about long policies against random packets.

use crate::analysis::{given, holds, likely};
use std::collections::BTreeSet;
use tipstaff_core::analysis::{compare, ordinary, shares};
use tipstaff_core::generate::Generator;
use tipstaff_core::space::{AddressSet, Direction, Packet, Piece, PortProtocol, RangeSet};

/// How many random packets are held against answers about long policies, unless
/// `TIPSTAFF_REVIEW_PACKETS` says.
const PACKETS: usize = 60_000;

fn packets() -> usize {
    match std::env::var("TIPSTAFF_REVIEW_PACKETS") {
        Ok(number) => number.parse().expect("a number"),
        Err(_) => PACKETS,
    }
}

/// The pieces of answers by what they answer, each packet in exactly one.
fn answer<'a, T>(answers: &'a [(Vec<Piece>, T)], packet: &Packet) -> Option<&'a T> {
    let mut holding = answers.iter().filter(|it| holds(&it.0, packet));
    let found = holding.next().map(|it| &it.1);
    assert!(holding.next().is_none(), "one answer for {packet:?}");
    found
}

#[test]
fn answers_about_long_policies_hold_for_random_packets() {
    const RULES: usize = 1_500;
    let plan = given(&Generator::new(1).grown_policy(RULES)).1;
    let mut dice = Generator::new(12);
    let direction = Direction::Inbound;
    let (mut asked, mut decided) = (0, BTreeSet::new());
    let each = packets() / 3;
    // Who can reach a port; what a sender can reach.
    while asked < 2 * each {
        let packet = dice.packet_for(&plan);
        if packet.direction != direction || !ordinary(&plan, direction).contains(&packet) {
            continue;
        }
        let mut region = ordinary(&plan, direction);
        match packet.ports() {
            Some((_, port)) if dice.one_in(2) => {
                let set = RangeSet::single(port);
                region.traffic =
                    PortProtocol::Tcp.traffic(set.clone()).union(&PortProtocol::Udp.traffic(set));
            }
            _ => region.source = AddressSet::single(packet.source),
        }
        let found = shares(&plan, direction, vec![region.clone()]).expect("few parts");
        let answers: Vec<_> =
            found.into_iter().map(|it| (it.pieces, it.decision.id.clone())).collect();
        for _ in 0..each / 20 {
            let mut other = dice.packet_for(&plan);
            if region.source.v4.ranges().len() + region.source.v6.ranges().len() == 1 {
                (other.source, other.destination) = (packet.source, packet.destination);
            } else {
                other.transport = packet.transport;
            }
            if other.direction == direction && region.contains(&other) {
                asked += 1;
                let by = &plan.decision(&other).id;
                assert_eq!(answer(&answers, &other), Some(by), "{other:?}");
                decided.insert(by.clone());
            }
        }
    }
    assert!(decided.len() > 20, "{} deciders", decided.len());
    // Where two policies differ.
    let other = given(&Generator::new(2).grown_policy(RULES)).1;
    let changes = compare(&plan, &other, likely).changes;
    assert!(changes.iter().all(|change| change.rest || !change.pieces.is_empty()));
    let answers: Vec<_> = changes
        .into_iter()
        .filter(|change| change.direction == direction)
        .map(|change| (change.pieces, (change.before.by, change.after.by)))
        .collect();
    let mut differ = 0;
    for _ in 0..each {
        let of = if dice.one_in(2) { &plan } else { &other };
        let mut packet = dice.packet_for(of);
        packet.direction = direction;
        let (first, second) = (plan.decision(&packet), other.decision(&packet));
        let expected = (first.act != second.act).then(|| (first.id.clone(), second.id.clone()));
        differ += usize::from(expected.is_some());
        assert_eq!(answer(&answers, &packet).cloned(), expected, "{packet:?}");
    }
    assert!(differ > each / 50, "{differ} of {each} packets fare differently");
}
