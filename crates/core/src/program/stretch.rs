//! Cuts an ordered list into stretches within which lookups can keep the order.

use super::item::Item;
use crate::plan::{Condition, InterfaceTest};
use crate::space::{AddressSet, Family, TrafficSet};

/// Sets of more ranges than this are kept whole: one set loads and is walked better than a
/// lookup that all of its ranges would split.
const LARGE: usize = 1_000;
/// How many more ranges of traffic a stretch may need for each item, on average.
const SPREAD: usize = 8;

/// The end by whose address items are looked up.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Axis {
    Source,
    Destination,
}

impl Axis {
    /// The end that more of the items name.
    pub(crate) fn of_most(items: &[Item<'_>]) -> Self {
        let naming = |axis: Self| {
            items.iter().filter(|item| !axis.addresses(&item.condition).is_full()).count()
        };
        if naming(Self::Source) >= naming(Self::Destination) {
            Self::Source
        } else {
            Self::Destination
        }
    }

    pub(super) fn addresses(self, condition: &Condition) -> &AddressSet {
        match self {
            Self::Source => &condition.source,
            Self::Destination => &condition.destination,
        }
    }

    /// The condition without its addresses at this end.
    pub(crate) fn freed(self, condition: &Condition) -> Condition {
        self.with(condition, AddressSet::full())
    }

    /// The condition with other addresses at this end.
    pub(crate) fn with(self, condition: &Condition, addresses: AddressSet) -> Condition {
        let mut other = condition.clone();
        match self {
            Self::Source => other.source = addresses,
            Self::Destination => other.destination = addresses,
        }
        other
    }

    /// Whether the condition tests more than the addresses at this end and the traffic.
    pub(crate) fn tests_more(self, condition: &Condition) -> bool {
        let other = match self {
            Self::Source => &condition.destination,
            Self::Destination => &condition.source,
        };
        !other.is_full()
            || condition.in_interface != InterfaceTest::Any
            || condition.out_interface != InterfaceTest::Any
            || condition.states.is_some()
            || !condition.source_is.is_full()
            || !condition.destination_is.is_full()
            || !condition.source_ports.is_full()
            || !condition.published.is_full()
            || condition.names_owners()
            || condition.until.is_some()
    }
}

/// Items one behind the other that keep their order.
#[derive(Debug)]
pub(super) enum Stretch<'p> {
    /// No lookup fits: they are walked one by one.
    OneByOne(Vec<Item<'p>>),
    /// Items that name addresses, to be looked up first, and items that do not, behind them.
    /// What the latter take ahead of the former is taken out of the former.
    Sorted { named: Vec<Item<'p>>, open: Vec<Item<'p>> },
}

/// The stretch that is being filled.
struct Current<'p> {
    named: Vec<Item<'p>>,
    open: Vec<Item<'p>>,
    /// The traffic that open items take whatever else a packet carries.
    taken: TrafficSet,
    /// The traffic of which open items take a part that only they know.
    contested: TrafficSet,
    /// How many more ranges were made by taking out.
    spread: usize,
}

impl<'p> Current<'p> {
    fn new() -> Self {
        Self {
            named: Vec::new(),
            open: Vec::new(),
            taken: TrafficSet::empty(),
            contested: TrafficSet::empty(),
            spread: 0,
        }
    }

    fn close(&mut self, list: &mut Vec<Stretch<'p>>) {
        let done = std::mem::replace(self, Self::new());
        if !done.named.is_empty() || !done.open.is_empty() {
            list.push(Stretch::Sorted { named: done.named, open: done.open });
        }
    }

    /// Adds an item that names addresses; `false` if the order could not be kept.
    fn add_named(&mut self, item: &Item<'p>, family: Family) -> bool {
        let traffic = &item.condition.traffic;
        if !self.contested.is_empty() && !traffic.intersection(&self.contested).is_empty() {
            return false;
        }
        if self.taken.is_empty() {
            self.named.push(item.clone());
            return true;
        }
        let rest = traffic.difference(&self.taken).of_family(family);
        let spread = self.spread + rest.pieces().saturating_sub(traffic.pieces());
        if spread > SPREAD * (self.named.len() + 100) {
            return false;
        }
        self.spread = spread;
        // What is empty now never gets a packet.
        if !rest.is_empty() {
            self.named.push(item.carrying(rest));
        }
        true
    }

    fn add_open(&mut self, item: Item<'p>, tests_more: bool) {
        let to = if tests_more { &mut self.contested } else { &mut self.taken };
        *to = to.union(&item.condition.traffic);
        self.open.push(item);
    }
}

/// Cuts `items`, all of one IP version, into stretches.
pub(crate) fn stretches<'p>(items: &[Item<'p>], axis: Axis, family: Family) -> Vec<Stretch<'p>> {
    let mut list = Vec::new();
    let mut current = Current::new();
    for item in items {
        let addresses = axis.addresses(&item.condition);
        let ranges = addresses.v4.ranges().len().max(addresses.v6.ranges().len());
        if addresses.is_full() && !item.condition.traffic.is_any() {
            current.add_open(item.clone(), axis.tests_more(&item.condition));
        } else if addresses.is_full() || ranges > LARGE {
            current.close(&mut list);
            match list.last_mut() {
                Some(Stretch::OneByOne(items)) => items.push(item.clone()),
                _ => list.push(Stretch::OneByOne(vec![item.clone()])),
            }
        } else if !current.add_named(item, family) {
            current.close(&mut list);
            // Nothing stands ahead of it now, so nothing is taken out.
            current.named.push(item.clone());
        }
    }
    current.close(&mut list);
    list
}
