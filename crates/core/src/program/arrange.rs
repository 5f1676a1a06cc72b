//! Arranges many items of one IP version into lookups.

use super::cells::Stretch as Values;
use super::field::{Field, Found, weight};
use super::item::{FEW, Item};
use super::lowering::{Lowering, lead};
use super::model::{Action, Entry, Key, Lookup, ProgramRule, Test, Then};
use super::points::{Split, addresses, split, stretches_of};
use super::room;
use super::stretch::{Axis, Stretch, stretches};
use crate::fnv::Fnv;
use crate::plan::{Act, Condition};
use crate::policy::Verdict;
use crate::space::{Family, ICMP, ICMPV6, Point, PortProtocol, RangeSet, TrafficSet};
use std::collections::HashMap;
use std::collections::hash_map::Entry as MapEntry;
use std::hash::BuildHasherDefault;

/// A list that falls into more stretches than this is better looked up by traffic first.
const STRETCHES: usize = 4;
/// The sizes of blocks of IPv4 addresses, as powers of two: one, and networks of 28, 24, 20 and 16 bits.
const BLOCKS_V4: [u32; 5] = [0, 4, 8, 12, 16];
/// Those of IPv6: one, and networks of 64, 56 and 48 bits.
const BLOCKS_V6: [u32; 4] = [0, 64, 72, 80];

pub(super) struct Arranger<'l> {
    pub lowering: &'l mut Lowering,
    pub family: Family,
    /// Which part of what stretches may grow by.
    pub part: usize,
}

impl Arranger<'_> {
    /// Rules that do with each packet what the first item does that it meets; a packet that meets
    /// none goes on behind them.
    pub(crate) fn arrange(&mut self, items: &[Item<'_>]) -> Vec<ProgramRule> {
        if items.len() <= FEW {
            return self.lowering.among_others(items, self.family);
        }
        let places = items.iter().enumerate();
        let items: &[Item<'_>] =
            &places.map(|(place, item)| Item { place, ..item.clone() }).collect::<Vec<_>>();
        let axis = Axis::of_most(items);
        let list = stretches(items, axis, self.family, self.part);
        if list.len() > STRETCHES {
            let narrow = items.iter().filter(|item| !item.condition.traffic.is_any()).count();
            if narrow * 2 > items.len()
                && let Some(rules) = self.by_traffic(items, 4 * items.len() + 1_024)
            {
                return rules;
            }
        }
        let mut rules = Vec::new();
        for stretch in list {
            match stretch {
                Stretch::OneByOne(items) => rules.extend(self.lowering.one_by_one(&items)),
                Stretch::Sorted { named, open } => {
                    rules.extend(self.named(named, axis));
                    rules.extend(self.open(&open));
                }
            }
        }
        rules
    }

    /// Items that all name addresses.
    fn named(&mut self, items: Vec<Item<'_>>, axis: Axis) -> Vec<ProgramRule> {
        if items.len() <= FEW / 2 {
            return self.walked(&items);
        }
        let mut rules = Vec::new();
        let mut parts = split(items.clone(), axis, self.family);
        if !self.lowering.room.take(parts.points.len() * room::ENTRY) {
            parts = Split { points: Vec::new(), boxes: items };
        }
        if !parts.points.is_empty() {
            let key = match axis {
                Axis::Source => Key::SourceService(self.family),
                Axis::Destination => Key::DestinationService(self.family),
            };
            let entry = |lowering: &mut Lowering, value, item: &Item<'_>| Entry {
                first: value,
                last: value,
                then: whole(lowering, item),
            };
            let entries = parts.points.iter().map(|it| entry(self.lowering, it.0, &it.1)).collect();
            rules.push(lead(
                vec![Test::Family(self.family)],
                Action::Choose(Lookup { key, entries }),
            ));
        }
        rules.extend(self.by_address(&parts.boxes, axis));
        rules
    }

    fn by_address(&mut self, items: &[Item<'_>], axis: Axis) -> Vec<ProgramRule> {
        if items.len() <= FEW / 2 {
            return self.walked(items);
        }
        let family = self.family;
        let ranges =
            |at: usize, item: &Item<'_>| stretches_of(axis.addresses(&item.condition), family, at);
        let field = Field {
            key: match axis {
                Axis::Source => Key::Source(family),
                Axis::Destination => Key::Destination(family),
            },
            tests: &[Test::Family(family)],
            sizes: if family == Family::V4 { &BLOCKS_V4 } else { &BLOCKS_V6 },
            each: 4,
            ranges: &ranges,
            freed: &|condition| axis.freed(condition),
            within: &|condition, block| {
                let inside = axis.addresses(condition).intersection(&addresses(family, block));
                axis.with(condition, inside)
            },
        };
        self.by(&field, items, 16 * items.len() + 4_096).unwrap_or_else(|| {
            // Too many of them lie one over the other: halves are easier.
            let (first, second) = items.split_at(items.len() / 2);
            let mut rules = self.by_address(first, axis);
            rules.extend(self.by_address(second, axis));
            rules
        })
    }

    /// Items that name no addresses.
    fn open(&mut self, items: &[Item<'_>]) -> Vec<ProgramRule> {
        if items.len() <= FEW / 2 {
            return self.lowering.one_by_one(items);
        }
        self.by_traffic(items, 16 * items.len() + 4_096).unwrap_or_else(|| {
            let (first, second) = items.split_at(items.len() / 2);
            let mut rules = self.open(first);
            rules.extend(self.open(second));
            rules
        })
    }

    /// Looks up the protocol and then the port or type; `None` if that would list more than
    /// `most` items, or take more room than there is.
    fn by_traffic(&mut self, items: &[Item<'_>], most: usize) -> Option<Vec<ProgramRule>> {
        let before = self.lowering.mark();
        let rules = self.try_by_traffic(items, most);
        if rules.is_none() {
            // What was made for the protocols before is of no use.
            self.lowering.rewind(before);
        }
        rules
    }

    fn try_by_traffic(&mut self, items: &[Item<'_>], most: usize) -> Option<Vec<ProgramRule>> {
        let mut rules = Vec::new();
        for protocol in PortProtocol::ALL {
            let ports = |it: &TrafficSet| it.ports[protocol].clone();
            let part = |it: &TrafficSet| protocol.traffic(it.ports[protocol].clone());
            let tests = vec![Test::Protocol(RangeSet::single(protocol.number()))];
            rules.extend(self.by_field(items, ports, part, &tests, Key::DestinationPort, most)?);
        }
        let (number, types): (u8, fn(&TrafficSet) -> RangeSet<u8>) = match self.family {
            Family::V4 => (ICMP, |it| it.icmp.clone()),
            Family::V6 => (ICMPV6, |it| it.icmpv6.clone()),
        };
        let part = |it: &TrafficSet| TrafficSet::icmp(it.icmp.clone(), it.icmpv6.clone());
        let tests = vec![Test::Family(self.family), Test::Protocol(RangeSet::single(number))];
        rules.extend(self.by_field(items, types, part, &tests, Key::IcmpType, most)?);
        let others =
            parts(items, |it| TrafficSet { others: it.others.clone(), ..TrafficSet::empty() });
        rules.extend(self.lowering.one_by_one(&others));
        Some(rules)
    }

    fn by_field<T: Point + Into<u128>>(
        &mut self,
        items: &[Item<'_>],
        field: impl Fn(&TrafficSet) -> RangeSet<T>,
        part: impl Fn(&TrafficSet) -> TrafficSet,
        tests: &[Test],
        key: Key,
        most: usize,
    ) -> Option<Vec<ProgramRule>> {
        let items = parts(items, part);
        if items.len() <= FEW / 2 {
            return Some(self.lowering.one_by_one(&items));
        }
        let ranges = |at: usize, item: &Item<'_>| -> Vec<Values> {
            let set = field(&item.condition.traffic);
            set.ranges().iter().map(|it| (at, it.0.into(), it.1.into())).collect()
        };
        let freed = |it: &Condition| Condition { traffic: TrafficSet::any(), ..it.clone() };
        let field = Field {
            key,
            tests,
            sizes: &[0],
            each: 16,
            ranges: &ranges,
            freed: &freed,
            // Single values: who takes one takes all of it.
            within: &|condition, _| condition.clone(),
        };
        self.by(&field, &items, most)
    }

    /// Rules that look items up by a field: by blocks, where those do, and what is too wide for them behind. `None`
    /// if that would list more than `most` items, or take more room than there is, even if what follows is walked one
    /// by one.
    fn by(
        &mut self,
        field: &Field<'_>,
        items: &[Item<'_>],
        most: usize,
    ) -> Option<Vec<ProgramRule>> {
        let before = self.lowering.mark();
        if let Some(rules) = self.by_blocks(field, items, most) {
            return Some(rules);
        }
        self.lowering.rewind(before);
        let entries = field.stretches(items, most).and_then(|found| self.entries(found))?;
        Some(vec![looked_up(field, entries)])
    }

    fn by_blocks(
        &mut self,
        field: &Field<'_>,
        items: &[Item<'_>],
        most: usize,
    ) -> Option<Vec<ProgramRule>> {
        let (found, wide) = field.blocks(items, most)?;
        let mut rules = vec![looked_up(field, self.entries(found)?)];
        rules.extend(match &wide[..] {
            few if few.len() <= FEW / 2 => self.walked(few),
            wide => self.by(field, wide, most)?,
        });
        Some(rules)
    }

    /// The entries of a lookup, unless they take more room than there is.
    fn entries(&mut self, found: Vec<Found<'_>>) -> Option<Vec<Entry>> {
        if !self.lowering.room.take(weight(&found)) {
            return None;
        }
        let mut known: HashMap<Vec<usize>, Then, BuildHasherDefault<Fnv>> = HashMap::default();
        let mut entries = Vec::with_capacity(found.len());
        for found in found {
            let (first, last) = ((found.first, 0), (found.last, 0));
            let then = match found.numbers.map(|it| known.entry(it)) {
                None => self.leaf(&found.items),
                Some(MapEntry::Occupied(led)) => led.get().clone(),
                Some(MapEntry::Vacant(new)) => new.insert(self.leaf(&found.items)).clone(),
            };
            entries.push(Entry { first, last, then });
        }
        Some(entries)
    }

    /// Few items, and those that have to be asked before them.
    fn walked(&mut self, items: &[Item<'_>]) -> Vec<ProgramRule> {
        self.lowering.one_by_one(&Item::with_those_ahead(items.to_vec()))
    }

    /// Where an entry leads at which these items matter.
    fn leaf(&mut self, items: &[Item<'_>]) -> Then {
        match items {
            [only] if only.condition.is_any() => whole(self.lowering, only),
            _ => {
                let rules = self.arrange(items);
                Then::Jump(self.lowering.chain_of(self.family, rules))
            }
        }
    }
}

fn looked_up(field: &Field<'_>, entries: Vec<Entry>) -> ProgramRule {
    lead(field.tests.to_vec(), Action::Choose(Lookup { key: field.key, entries }))
}

/// Where an entry leads at which the item takes every packet.
fn whole(lowering: &mut Lowering, item: &Item<'_>) -> Then {
    let decision = item.decision;
    match (decision.act, decision.log) {
        (Act::Decide(Verdict::Allow), None) => Then::Allow(decision.id.clone()),
        (Act::Decide(Verdict::Deny), None) => Then::Deny(decision.id.clone()),
        _ => Then::Jump(lowering.own_chain(decision)),
    }
}

/// The items narrowed to a part of the traffic, without those that have nothing in it.
fn parts<'p>(items: &[Item<'p>], part: impl Fn(&TrafficSet) -> TrafficSet) -> Vec<Item<'p>> {
    let mut list = Vec::new();
    for item in items {
        let traffic = part(&item.condition.traffic);
        if !traffic.is_empty() {
            list.push(item.carrying(traffic));
        }
    }
    list
}
