//! What is in our sets.

use super::super::names::{links, text_of};
use super::super::record::Decided;
use super::super::values::{before, largest, set_of};
use foldhash::HashMap;
use tipstaff_core::space::{AddressSet, Family};
use tipstaff_wire::nf_tables::Element;

/// Inclusive ranges of keys.
pub(super) type Ranges = Vec<(Vec<u8>, Vec<u8>)>;

/// What a set holds.
#[derive(Debug)]
pub(crate) enum Found {
    /// Keys, as ranges of bytes.
    Keys(Ranges),
    /// Numbers of programs at their places in marks, with the paths they stand for.
    Programs(Vec<(u32, Option<String>)>),
    /// The senders that a rate tells apart.
    Senders,
    /// The numbers of decisions, by ranges of keys.
    Numbers(HashMap<(Vec<u8>, Vec<u8>), u32>),
    /// Ranges of keys, each with the element that says what they lead to, and whether they are intervals.
    Map(Vec<(Vec<u8>, Vec<u8>, Element)>, bool),
}

/// What is in our sets.
#[derive(Default)]
pub(crate) struct Sets {
    by_name: HashMap<String, Found>,
    /// The lists of one program, by its number at its place in marks.
    alone: HashMap<u32, String>,
    /// Which number stands for which decision.
    pub decisions: HashMap<u32, Decided>,
}

impl Sets {
    /// Adds what a set holds.
    pub(crate) fn insert(&mut self, name: &str, found: Found) {
        if let Found::Programs(entries) = &found
            && let [(bits, _)] = entries[..]
        {
            self.alone.insert(bits, name.to_owned());
        }
        self.by_name.insert(name.to_owned(), found);
    }

    /// The set of that name.
    pub(crate) fn get(&self, name: &str) -> Option<&Found> {
        self.by_name.get(name)
    }

    /// The networks that the machine is on, as our sets tell them.
    pub(crate) fn on_link(&self) -> AddressSet {
        let keys = |family| match self.get(links(family)) {
            Some(Found::Keys(ranges)) => ranges.as_slice(),
            _ => &[],
        };
        AddressSet {
            v4: set_of(keys(Family::V4)).unwrap_or_default(),
            v6: set_of(keys(Family::V6)).unwrap_or_default(),
        }
    }

    /// The list on which that program alone stands.
    pub(crate) fn alone(&self, bits: u32) -> Option<&Found> {
        self.get(self.alone.get(&bits)?)
    }
}

/// A set's elements, in any order.
pub(crate) fn found(mut elements: Vec<Element>, intervals: bool, map: bool) -> Found {
    if map && intervals {
        let ranges = ranges(&mut elements, true);
        let mut starts = elements.into_iter().filter(|it| !it.ends_interval);
        let with_start = ranges.into_iter().filter_map(|(first, last)| {
            let start = starts.find(|start| start.key == first)?;
            Some((first, last, start))
        });
        map_of(with_start.collect(), true)
    } else if map {
        elements.sort_by(|a, b| a.key.cmp(&b.key));
        let pair = |element: Element| (element.key.clone(), element.key.clone(), element);
        map_of(elements.into_iter().map(pair).collect(), false)
    } else if elements.iter().any(|it| !it.user_data.is_empty()) {
        let number = |key: &[u8]| key.try_into().map_or(0, u32::from_ne_bytes);
        let entry = |it: &Element| (number(&it.key), text_of(&it.user_data).map(str::to_owned));
        Found::Programs(elements.iter().map(entry).collect())
    } else {
        Found::Keys(ranges(&mut elements, intervals))
    }
}

fn map_of(elements: Vec<(Vec<u8>, Vec<u8>, Element)>, intervals: bool) -> Found {
    let numbers = elements.iter().map(|(first, last, it)| {
        let number = it.number?;
        Some(((first.clone(), last.clone()), number))
    });
    numbers.collect::<Option<_>>().map_or(Found::Map(elements, intervals), Found::Numbers)
}

/// The elements as ranges; afterwards they are sorted.
fn ranges(elements: &mut [Element], intervals: bool) -> Ranges {
    if !intervals {
        return elements.iter().map(|it| (it.key.clone(), it.key.clone())).collect();
    }
    // At one key, the end of an interval stands before the start of the next.
    elements.sort_by(|a, b| a.key.cmp(&b.key).then(b.ends_interval.cmp(&a.ends_interval)));
    let mut ranges = Vec::new();
    let mut open: Option<&Element> = None;
    for element in elements.iter() {
        if element.ends_interval {
            if let (Some(start), Some(last)) = (open.take(), before(&element.key)) {
                ranges.push((start.key.clone(), last));
            }
        } else {
            open = Some(element);
        }
    }
    if let Some(start) = open {
        ranges.push((start.key.clone(), largest(start.key.len())));
    }
    ranges
}
