//! The fate of a whole set of senders at once, exactly.
//!
//! Rules compare a sender's address with ranges. Between two neighbouring ends of such ranges
//! all senders fare alike, so one of them speaks for all: no sampling is involved.

use super::model::HostPlan;
use crate::program::{Action, Key, Lookup, RuleProgram, Test};
use crate::space::{AddressSet, Family, Packet, Point, RangeSet};
use std::borrow::Cow;
use std::collections::BTreeSet;
use std::net::IpAddr;

/// Something that compares senders with sets of addresses.
pub trait Decider {
    /// Every set of senders that it compares with.
    fn sender_sets(&self) -> Vec<Cow<'_, AddressSet>>;
}

impl Decider for HostPlan {
    fn sender_sets(&self) -> Vec<Cow<'_, AddressSet>> {
        let decisions = self.decisions().map(|(_, decision)| decision);
        let active = decisions.filter(|decision| decision.idle.is_none());
        let named = active.flat_map(|it| it.conditions.iter().map(|it| Cow::Borrowed(&it.source)));
        let mut sets: Vec<_> = named.collect();
        if self.moving {
            sets.push(Cow::Borrowed(&self.on_link));
            sets.push(Cow::Owned(
                self.addresses.iter().map(|&it| AddressSet::single(it)).collect(),
            ));
        }
        sets
    }
}

impl Decider for RuleProgram {
    fn sender_sets(&self) -> Vec<Cow<'_, AddressSet>> {
        let rules = self.chains.iter().flat_map(|chain| &chain.rules);
        let mut sets = Vec::new();
        for rule in rules {
            sets.extend(rule.tests.iter().filter_map(|test| match test {
                Test::Source(set) => Some(Cow::Borrowed(set)),
                _ => None,
            }));
            if let Action::Choose(lookup) = &rule.action {
                sets.extend(compared(lookup).into_iter().map(Cow::Owned));
            }
        }
        sets
    }
}

/// The senders of each entry of a lookup.
fn compared(lookup: &Lookup) -> Vec<AddressSet> {
    let ranges = lookup.entries.iter().map(|entry| (entry.first.0, entry.last.0));
    match lookup.key {
        Key::Source(Family::V6) | Key::SourceService(Family::V6) => {
            ranges.map(|range| AddressSet::from_v6([range])).collect()
        }
        Key::Source(Family::V4) | Key::SourceService(Family::V4) => ranges
            .filter_map(|(first, last)| {
                Some((u32::try_from(first).ok()?, u32::try_from(last).ok()?))
            })
            .map(|range| AddressSet::from_v4([range]))
            .collect(),
        _ => Vec::new(),
    }
}

/// Senders that meet one fate at some receivers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part<F> {
    /// The senders that fare alike.
    pub senders: AddressSet,
    /// The receivers at which some of them meet it.
    pub receivers: Vec<IpAddr>,
    /// What becomes of their packets.
    pub fate: F,
}

/// What to ask about every sender of a set.
#[derive(Clone, Debug)]
pub struct Question<'a> {
    /// A packet into which senders and receivers are put.
    pub packet: &'a Packet,
    /// The senders; only those of `family` count.
    pub senders: &'a AddressSet,
    /// The receivers to try, all of `family`.
    pub receivers: &'a [IpAddr],
    /// The IP version of the packets.
    pub family: Family,
}

/// Splits the senders of a question into parts that meet the same fate. `deciders` are all that
/// `fate` asks. Parts come in the order of their lowest sender.
#[must_use]
pub fn sweep<F: PartialEq>(
    deciders: &[&dyn Decider],
    question: &Question<'_>,
    fate: impl Fn(&Packet) -> F,
) -> Vec<Part<F>> {
    let sets: Vec<Cow<'_, AddressSet>> = deciders.iter().flat_map(|it| it.sender_sets()).collect();
    let pieces: Vec<AddressSet> = match question.family {
        Family::V4 => split(&question.senders.v4, sets.iter().map(|set| &set.v4))
            .into_iter()
            .map(|piece| AddressSet::from_v4([piece]))
            .collect(),
        Family::V6 => split(&question.senders.v6, sets.iter().map(|set| &set.v6))
            .into_iter()
            .map(|piece| AddressSet::from_v6([piece]))
            .collect(),
    };
    let mut parts: Vec<Part<F>> = Vec::new();
    for piece in pieces {
        let Some(source) = piece.first(question.family) else {
            continue;
        };
        for &receiver in question.receivers {
            let packet = Packet { source, destination: receiver, ..question.packet.clone() };
            let fate = fate(&packet);
            match parts.iter_mut().find(|part| part.fate == fate) {
                Some(part) => {
                    part.senders = part.senders.union(&piece);
                    if !part.receivers.contains(&receiver) {
                        part.receivers.push(receiver);
                    }
                }
                None => {
                    parts.push(Part { senders: piece.clone(), receivers: vec![receiver], fate });
                }
            }
        }
    }
    parts
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_are_cut_where_others_begin_and_end() {
        let set = |ranges: &[(u8, u8)]| RangeSet::from_ranges(ranges.iter().copied());
        let cut = |all: &[(u8, u8)], by: &[(u8, u8)]| split(&set(all), [set(by)].iter());
        assert_eq!(cut(&[(10, 20)], &[(0, 5), (30, 40)]), [(10, 20)]);
        assert_eq!(cut(&[(10, 20)], &[(10, 20)]), [(10, 20)]);
        assert_eq!(cut(&[(10, 20)], &[(0, 14)]), [(10, 14), (15, 20)]);
        assert_eq!(cut(&[(10, 20)], &[(12, 12)]), [(10, 11), (12, 12), (13, 20)]);
        assert_eq!(
            cut(&[(10, 20), (40, 255)], &[(20, 50)]),
            [(10, 19), (20, 20), (40, 50), (51, 255)]
        );
        assert_eq!(cut(&[(10, 20)], &[(20, 255)]), [(10, 19), (20, 20)]);
    }
}
