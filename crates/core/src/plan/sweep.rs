//! The fate of a whole set of senders at once, exactly.
//!
//! Rules compare a sender's address with ranges. Between two neighbouring ends of such ranges
//! all senders fare alike, so one of them speaks for all: no sampling is involved.

use super::evaluate::Decided;
use super::model::HostPlan;
use crate::program::{RuleProgram, Test};
use crate::space::{AddressSet, Family, Packet, Point, RangeSet};
use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Something that decides about packets: a plan, or a rule program.
pub trait Decider {
    /// The fate of the packet; `None` if that cannot be told.
    fn decide(&self, packet: &Packet) -> Option<Decided>;

    /// Every set of senders that it compares with.
    fn sender_sets(&self) -> Vec<&AddressSet>;
}

impl Decider for HostPlan {
    fn decide(&self, packet: &Packet) -> Option<Decided> {
        Some(self.evaluate(packet))
    }

    fn sender_sets(&self) -> Vec<&AddressSet> {
        let decisions = self.decisions().map(|(_, decision)| decision);
        let active = decisions.filter(|decision| !decision.paused);
        active.flat_map(|decision| decision.conditions.iter().map(|it| &it.source)).collect()
    }
}

impl Decider for RuleProgram {
    fn decide(&self, packet: &Packet) -> Option<Decided> {
        self.evaluate(packet)
    }

    fn sender_sets(&self) -> Vec<&AddressSet> {
        let rules = self.chains.iter().flat_map(|chain| &chain.rules);
        rules
            .flat_map(|rule| &rule.tests)
            .filter_map(|test| match test {
                Test::Source(set) => Some(set),
                _ => None,
            })
            .collect()
    }
}

/// Senders that all meet the same fate.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// The senders.
    pub senders: AddressSet,
    /// Their fate; `None` if it cannot be told.
    pub fate: Option<Decided>,
}

/// What to ask about every sender of a set.
#[derive(Clone, Debug)]
pub struct Question<'a> {
    /// A packet whose source and destination are put in anew.
    pub packet: &'a Packet,
    /// The senders; only those of `family` count.
    pub senders: &'a AddressSet,
    /// The receivers to try, all of `family`.
    pub receivers: &'a [IpAddr],
    /// The IP version.
    pub family: Family,
}

/// Splits the senders of a question into parts that meet the same fate at every receiver alike.
/// A sender whose fate depends on the receiver is in several parts. Parts come in the order of
/// their lowest sender.
#[must_use]
pub fn sweep(decider: &dyn Decider, question: &Question<'_>) -> Vec<Part> {
    let sets = decider.sender_sets();
    match question.family {
        Family::V4 => {
            let cuts = sets.iter().map(|set| &set.v4);
            let pieces = split(&question.senders.v4, cuts);
            gather(decider, question, pieces, |bits| Ipv4Addr::from_bits(bits).into(), |piece| {
                AddressSet::from_v4([piece])
            })
        }
        Family::V6 => {
            let cuts = sets.iter().map(|set| &set.v6);
            let pieces = split(&question.senders.v6, cuts);
            gather(decider, question, pieces, |bits| Ipv6Addr::from_bits(bits).into(), |piece| {
                AddressSet::from_v6([piece])
            })
        }
    }
}

/// Cuts `set` at every end of every range of `cuts`.
fn split<'a, T: Point + 'a>(
    set: &RangeSet<T>,
    cuts: impl Iterator<Item = &'a RangeSet<T>>,
) -> Vec<(T, T)> {
    let mut starts = BTreeSet::new();
    for &(first, last) in cuts.flat_map(RangeSet::ranges) {
        starts.insert(first);
        starts.extend(last.next());
    }
    let mut pieces = Vec::new();
    for &(first, last) in set.ranges() {
        let mut open = first;
        for &start in starts.range(first..=last) {
            if let Some(end) = start.previous()
                && open < start
            {
                pieces.push((open, end));
                open = start;
            }
        }
        pieces.push((open, last));
    }
    pieces
}

fn gather<T: Point>(
    decider: &dyn Decider,
    question: &Question<'_>,
    pieces: Vec<(T, T)>,
    address: impl Fn(T) -> IpAddr,
    set: impl Fn((T, T)) -> AddressSet,
) -> Vec<Part> {
    let mut parts: Vec<(Option<Decided>, Vec<AddressSet>)> = Vec::new();
    for piece in pieces {
        for &receiver in question.receivers {
            let packet = Packet {
                source: address(piece.0),
                destination: receiver,
                ..question.packet.clone()
            };
            let fate = decider.decide(&packet);
            match parts.iter_mut().find(|part| part.0 == fate) {
                Some(part) => part.1.push(set(piece)),
                None => parts.push((fate, vec![set(piece)])),
            }
        }
    }
    parts
        .into_iter()
        .map(|(fate, sets)| Part { senders: sets.into_iter().collect(), fate })
        .collect()
}
