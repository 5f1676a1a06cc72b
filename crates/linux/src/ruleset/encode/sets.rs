//! The sets that rules look packets up in.

use super::super::keys::{self, Way};
use super::super::names::{TABLE, user_data};
use super::super::values::{Key as Value, spelled_out};
use super::encoder::Encoder;
use tipstaff_core::program::{Counted, Entry, Key, Lookup, ProgramRule, Test, Then};
use tipstaff_core::space::{Direction, RangeSet};
use tipstaff_wire::nf_tables::{self as nf, Element, Expression, Verdict, registers, set_flags};

impl Encoder<'_> {
    /// Looks the packet up in a map that gives the verdict, and that counts what it decides.
    pub(super) fn lookup(
        &mut self,
        direction: Option<Direction>,
        lookup: &Lookup,
        out: &mut Vec<Expression>,
    ) {
        let way = Way::of(lookup);
        self.sets += 1;
        let set = nf::Set {
            table: TABLE.into(),
            name: self.named(&format!("map/{}/{}", self.chain, keys::word(lookup.key, way))),
            flags: way.flags(),
            key_length: keys::length(lookup.key),
            id: self.sets,
            size: way.size(lookup.entries.len()),
            verdicts: true,
            counted: true,
            ..nf::Set::default()
        };
        let mut elements = Vec::with_capacity(lookup.entries.len() * 2);
        for entry in &lookup.entries {
            let mut element = element(lookup.key, entry);
            if let Then::Allow(id) | Then::Deny(id) = &entry.then {
                let count = direction.and_then(|it| self.carried.take(it, id, Counted::Taken));
                element.count = count.map(|count| (count.packets, count.bytes));
            }
            elements.push(element);
            elements.extend(end_of(lookup.key, entry).filter(|_| way.by_intervals()));
        }
        self.looked_up(direction, lookup, &set.name, &mut elements);
        self.batch.new_set(&set);
        let message = self.batch.new_counted(&set, &elements, direction);
        self.ledger.note(message, None);
        out.extend(keys::load(lookup.key, way));
        out.push(Expression::Lookup {
            register: registers::FIRST,
            set: set.name,
            id: set.id,
            flags: 0,
            to_verdict: true,
        });
    }

    pub(super) fn new_set<T: Value>(
        &mut self,
        values: &RangeSet<T>,
        test: &Test,
        rule: &ProgramRule,
    ) -> (String, u32) {
        self.sets += 1;
        let spelled = spelled_out(values.ranges());
        let points = spelled.is_some();
        let ranges = spelled.as_deref().unwrap_or(values.ranges());
        let changes = ranges.len() >= CHANGES;
        let name = if changes { self.by_rule(rule, test) } else { self.by_content("set", test) };
        let set = nf::Set {
            table: TABLE.into(),
            name,
            flags: if changes { 0 } else { set_flags::CONSTANT }
                | if points { 0 } else { set_flags::INTERVAL },
            key_length: T::LENGTH,
            id: self.sets,
            size: size_of_set(points, if changes { room(ranges.len()) } else { ranges.len() }),
            ..nf::Set::default()
        };
        let elements = if points {
            ranges.iter().map(|it| Element::key(it.0.to_key())).collect()
        } else {
            self::ranges(ranges)
        };
        self.batch.new_set(&set);
        let name_and_id = (set.name.clone(), set.id);
        let message = self.batch.new_elements(&set, &elements);
        self.ledger.note(message, rule.id.as_ref());
        name_and_id
    }
}

/// Sets with so many ranges or more may get others while rules look into them.
const CHANGES: usize = 16;

impl Way {
    /// The kind of its map.
    pub(super) fn flags(self) -> u32 {
        if self.by_intervals() { set_flags::MAP | set_flags::INTERVAL } else { set_flags::MAP }
    }

    /// For how many that is made.
    pub(super) fn size(self, entries: usize) -> Option<u32> {
        size_of_set(!self.by_intervals(), room(entries))
    }
}

/// For how many elements a set is made that has so many now: the number stays the same while some come and go.
fn room(elements: usize) -> usize {
    (elements + elements / 4).next_power_of_two()
}

/// Where the interval of an entry ends, if it does before the values do.
pub(super) fn end_of(key: Key, entry: &Entry) -> Option<Element> {
    // One more than the largest value of the field: the interval never ends.
    let end = keys::bytes(key, (entry.last.0.wrapping_add(1), 0));
    end.iter().any(|&byte| byte != 0).then(|| Element::end(end))
}

/// Ranges as the elements of a set of intervals.
pub(super) fn ranges<T: Value>(ranges: &[(T, T)]) -> Vec<Element> {
    let mut elements = Vec::with_capacity(ranges.len() * 2);
    for &(first, last) in ranges {
        elements.push(Element::key(first.to_key()));
        elements.extend(last.next().map(|behind| Element::end(behind.to_key())));
    }
    elements
}

/// A set of single values that never changes is told how many there are: the kernel then takes
/// the form that is fastest to fill and to search.
pub(crate) fn size_of_set(points: bool, elements: usize) -> Option<u32> {
    u32::try_from(elements).ok().filter(|_| points)
}

fn element(key: Key, entry: &Entry) -> Element {
    let (verdict, id) = match &entry.then {
        Then::Allow(id) => (Verdict::Accept, Some(id)),
        Then::Deny(id) => (Verdict::Drop, Some(id)),
        Then::Jump(chain) => (Verdict::Jump(chain.clone()), None),
        Then::Opaque(_) => unreachable!("only decoding makes opaque entries"),
    };
    Element {
        verdict: Some(verdict),
        user_data: id.map(|id| user_data(&id.to_string())).unwrap_or_default(),
        ..Element::key(keys::bytes(key, entry.first))
    }
}
