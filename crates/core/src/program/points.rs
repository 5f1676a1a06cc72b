//! Items that are no more than a few single addresses with a few single ports: they can be found
//! by one hash.

use super::cells::{Cell, cells};
use super::item::{FEW, Item};
use super::model::KeyValue;
use super::stretch::Axis;
use crate::space::{AddressSet, Family, Point, PortProtocol, RangeSet, TrafficSet};
use std::collections::HashSet;
use std::sync::Arc;

/// An item is spelled out into at most so many points.
const SPELLED_OUT: usize = 1_024;
/// Ranges are spelled out if they hold no more values than this on average.
const SHORT: usize = 2;

/// A list of items, split by how they are found.
pub(super) struct Split<'p> {
    /// For each value, ascending, the item that takes it.
    pub points: Vec<(KeyValue, Item<'p>)>,
    /// The items that are to be looked up otherwise, in order; none of them comes before a point
    /// of its own.
    pub boxes: Vec<Item<'p>>,
}

/// Takes the points out of `items`, all of which name addresses at the end `axis`.
///
/// The points are found first. So none may have a box ahead of it in the list: one that has is
/// left out if the box takes it anyway, and stays among the boxes if only the box knows.
pub(super) fn split<'p>(items: Vec<Item<'p>>, axis: Axis, family: Family) -> Split<'p> {
    let values: Vec<Option<Vec<KeyValue>>> =
        items.iter().map(|item| spelled_out(item, axis, family)).collect();
    let all: usize = values.iter().flatten().map(Vec::len).sum();
    let Some(cells) = (all >= FEW).then(|| cells_of(&items, &values, axis, family)).flatten()
    else {
        return Split { points: Vec::new(), boxes: items };
    };
    let mut seen = HashSet::with_capacity(all);
    let mut points = Vec::with_capacity(all);
    let mut boxes = Vec::new();
    for (at, (item, values)) in items.iter().zip(values).enumerate() {
        let Some(values) = values else {
            boxes.push(item.clone());
            continue;
        };
        // Of two items with the same point, the later one never gets a packet.
        for value in values.into_iter().filter(|value| seen.insert(*value)) {
            match ahead(&items, &cells, axis, at, value) {
                Ahead::Nothing => points.push((value, item.clone())),
                Ahead::Taken => {}
                Ahead::Contested => boxes.push(single(item, axis, family, value)),
            }
        }
    }
    points.sort_unstable_by_key(|point| point.0);
    Split { points, boxes }
}

/// The cells of the items that are no points.
fn cells_of(
    items: &[Item<'_>],
    values: &[Option<Vec<KeyValue>>],
    axis: Axis,
    family: Family,
) -> Option<Vec<Cell>> {
    let mut ranges = Vec::new();
    for (at, item) in items.iter().enumerate().filter(|(at, _)| values[*at].is_none()) {
        ranges.extend(stretches_of(axis.addresses(&item.condition), family, at));
    }
    let takes_all = |at: usize| {
        let condition = &items[at].condition;
        condition.traffic.is_any() && !axis.tests_more(condition)
    };
    cells(&ranges, takes_all, 16 * items.len() + 4_096)
}

/// The ranges of one IP version, each with the item's number.
pub(crate) fn stretches_of(
    set: &AddressSet,
    family: Family,
    item: usize,
) -> Vec<(usize, u128, u128)> {
    match family {
        Family::V4 => set.v4.ranges().iter().map(|it| (item, it.0.into(), it.1.into())).collect(),
        Family::V6 => set.v6.ranges().iter().map(|it| (item, it.0, it.1)).collect(),
    }
}

/// The addresses from the first to the last.
pub(super) fn addresses(family: Family, (first, last): (u128, u128)) -> AddressSet {
    // They came from addresses of that version.
    let narrow = |value: u128| u32::try_from(value).unwrap_or(u32::MAX);
    match family {
        Family::V4 => AddressSet::from_v4([(narrow(first), narrow(last))]),
        Family::V6 => AddressSet::from_v6([(first, last)]),
    }
}

/// What stands ahead of a point.
enum Ahead {
    Nothing,
    /// A box that takes it.
    Taken,
    /// A box that may take it.
    Contested,
}

fn ahead(items: &[Item<'_>], cells: &[Cell], axis: Axis, at: usize, value: KeyValue) -> Ahead {
    let after = cells.partition_point(|cell| cell.first <= value.0);
    let Some(cell) = after.checked_sub(1).map(|it| &cells[it]).filter(|it| value.0 <= it.last)
    else {
        return Ahead::Nothing;
    };
    for &other in cell.items.iter().take_while(|&&other| other < at) {
        let condition = &items[other].condition;
        let (protocol, port) = service(value);
        if protocol.is_some_and(|it| condition.traffic.ports[it].contains(port)) {
            return if axis.tests_more(condition) { Ahead::Contested } else { Ahead::Taken };
        }
    }
    Ahead::Nothing
}

/// A value's protocol and port.
fn service(value: KeyValue) -> (Option<PortProtocol>, u16) {
    let number = u8::try_from(value.1 >> 16).ok();
    let port = u16::try_from(value.1 & 0xffff).unwrap_or(u16::MAX);
    (number.and_then(PortProtocol::of_number), port)
}

/// The item narrowed to one of its points.
fn single<'p>(item: &Item<'p>, axis: Axis, family: Family, value: KeyValue) -> Item<'p> {
    let address = addresses(family, (value.0, value.0));
    let mut condition = axis.with(&item.condition, address);
    let (protocol, port) = service(value);
    let none = TrafficSet::empty();
    condition.traffic = protocol.map_or(none, |it| it.traffic(RangeSet::single(port)));
    item.with(Arc::new(condition))
}

/// All values that the item takes, if they are few, it tests nothing else and nothing may come before it.
fn spelled_out(item: &Item<'_>, axis: Axis, family: Family) -> Option<Vec<KeyValue>> {
    let condition = &item.condition;
    let traffic = &condition.traffic;
    let only_ports =
        traffic.icmp.is_empty() && traffic.icmpv6.is_empty() && traffic.others.is_empty();
    if !only_ports || item.ahead.is_some() || axis.tests_more(condition) {
        return None;
    }
    let set = axis.addresses(condition);
    let addresses: Vec<u128> = match family {
        Family::V4 => values(&set.v4)?.into_iter().map(u128::from).collect(),
        Family::V6 => values(&set.v6)?,
    };
    let mut services = Vec::new();
    for (protocol, ports) in traffic.ports.iter() {
        let (number, ports) = (u32::from(protocol.number()), values(ports)?);
        services.extend(ports.into_iter().map(|it| number << 16 | u32::from(it)));
    }
    if addresses.len() * services.len() > SPELLED_OUT {
        return None;
    }
    let pair = |address| services.iter().map(move |&service| (address, service));
    Some(addresses.into_iter().flat_map(pair).collect())
}

/// The values of a set, if its ranges are short.
fn values<T: Point>(set: &RangeSet<T>) -> Option<Vec<T>> {
    let most = SHORT * set.ranges().len();
    let mut values = Vec::new();
    for &(first, last) in set.ranges() {
        let mut value = first;
        loop {
            values.push(value);
            if values.len() > most {
                return None;
            }
            match value.next().filter(|_| value < last) {
                Some(next) => value = next,
                None => break,
            }
        }
    }
    Some(values)
}
