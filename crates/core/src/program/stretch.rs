//! Cuts an ordered list into stretches within which lookups can keep the order.

use super::item::Item;
use super::room;
use crate::plan::{Condition, InterfaceTest};
use crate::space::{AddressSet, Family, TrafficSet};

/// Sets of more ranges than this are kept whole: one set loads and is walked better than a
/// lookup that all of its ranges would split.
const LARGE: usize = 1_000;
/// The items of a stretch may take as much more, for what is taken out of them, as they take as they are written, and
/// this many bytes; or a part of that, where it would leave no room for lookups.
const MORE: usize = 32 * 1024;
/// How many items may have to be asked before each item of a stretch, on average.
const AHEAD: usize = 4;
/// Of so many open items it is looked which have to.
const CONTESTING: usize = 256;

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
    /// What the latter take ahead of the former is taken out of the former; where only they know what that is, they
    /// are [ahead](Item::ahead).
    Sorted { named: Vec<Item<'p>>, open: Vec<Item<'p>> },
}

/// The stretch that is being filled.
struct Current<'p> {
    named: Vec<Item<'p>>,
    open: Vec<Item<'p>>,
    /// The traffic that open items take whatever else a packet carries.
    taken: TrafficSet,
    /// The open items that take a part only they know of what was left.
    contesting: Vec<Item<'p>>,
    /// The traffic of these.
    contested: TrafficSet,
    /// How many bytes the items take as they are written, and how many more with what was taken out.
    plain: usize,
    spread: usize,
    /// How many items stand ahead of others.
    ahead: usize,
    /// Which part of what may be spread is.
    part: usize,
}

impl<'p> Current<'p> {
    fn new(part: usize) -> Self {
        Self {
            named: Vec::new(),
            open: Vec::new(),
            taken: TrafficSet::empty(),
            contesting: Vec::new(),
            contested: TrafficSet::empty(),
            plain: 0,
            spread: 0,
            ahead: 0,
            part,
        }
    }

    fn close(&mut self, list: &mut Vec<Stretch<'p>>) {
        let done = std::mem::replace(self, Self::new(self.part));
        if !done.named.is_empty() || !done.open.is_empty() {
            list.push(Stretch::Sorted { named: done.named, open: done.open });
        }
    }

    /// Adds an item that names addresses; `false` if the order could not be kept.
    fn add_named(&mut self, item: &Item<'p>, family: Family) -> bool {
        let traffic = &item.condition.traffic;
        let weight = room::weight(&item.condition);
        let (mut rest, mut spread) = (item.clone(), self.spread);
        if self.taken.meets(traffic) {
            rest = item.carrying(traffic.difference(&self.taken).of_family(family));
            spread += room::weight(&rest.condition).saturating_sub(weight);
        }
        let Some(ahead) = self.ahead_of(&rest.condition.traffic) else { return false };
        let listed = self.ahead + ahead.len();
        if spread > (self.plain + MORE) / self.part || listed > AHEAD * (self.named.len() + 100) {
            return false;
        }
        (self.plain, self.spread, self.ahead) = (self.plain + weight, spread, listed);
        // What is empty now never gets a packet.
        if !rest.condition.traffic.is_empty() {
            let ahead = (!ahead.is_empty()).then(|| ahead.into());
            self.named.push(Item { ahead, ..rest });
        }
        true
    }

    /// What has to be asked before an item with this traffic: the open items that may take some of it, and those that
    /// may take some of what these would. `None` if there are too many to look at.
    fn ahead_of(&self, traffic: &TrafficSet) -> Option<Vec<Item<'p>>> {
        if !self.contested.meets(traffic) {
            return Some(Vec::new());
        }
        if self.contesting.len() > CONTESTING {
            return None;
        }
        let (mut all, mut ahead) = (traffic.clone(), Vec::new());
        for item in self.contesting.iter().rev() {
            if item.condition.traffic.meets(&all) {
                all = all.union(&item.condition.traffic);
                ahead.push(item.clone());
            }
        }
        ahead.reverse();
        Some(ahead)
    }

    fn add_open(&mut self, item: Item<'p>, tests_more: bool, family: Family) {
        let traffic = &item.condition.traffic;
        if tests_more {
            // What is taken already goes by it as well.
            let left = traffic.difference(&self.taken).of_family(family);
            if !left.is_empty() {
                self.contested = self.contested.union(&left);
                self.contesting.push(item.carrying(left));
            }
        } else {
            self.taken = self.taken.union(traffic);
        }
        self.open.push(item);
    }
}

/// Cuts `items`, all of one IP version, into stretches, of which one may grow by one `part` of what it could.
pub(crate) fn stretches<'p>(
    items: &[Item<'p>],
    axis: Axis,
    family: Family,
    part: usize,
) -> Vec<Stretch<'p>> {
    let mut list = Vec::new();
    let mut current = Current::new(part);
    for item in items {
        let addresses = axis.addresses(&item.condition);
        let ranges = addresses.v4.ranges().len().max(addresses.v6.ranges().len());
        if addresses.is_full() && !item.condition.traffic.is_any() {
            current.add_open(item.clone(), axis.tests_more(&item.condition), family);
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
