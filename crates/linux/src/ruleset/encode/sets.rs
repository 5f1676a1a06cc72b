//! The sets that rules look packets up in.

use super::super::keys;
use super::super::marks::Marks;
use super::super::names::{CROWDS, NOT_IN, TABLE, user_data};
use super::super::values::{Key as Value, spelled_out};
use super::encoder::Encoder;
use super::expressions::{limit, payload};
use crate::LinuxError;
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Rate;
use tipstaff_core::program::{Counted, Entry, Key, Lookup, ProgramRule, Sender, Then};
use tipstaff_core::space::{Direction, RangeSet};
use tipstaff_wire::nf_tables::{
    self as nf, Base, Element, Expression, Verdict, registers, set_flags,
};

/// How many senders a rate per source can tell apart at a time.
const SENDERS: u32 = 65_536;
/// Senders are remembered at least this long, in milliseconds, so that the set is not made anew
/// all the time.
const SHORTEST_MEMORY: u64 = 10_000;
/// The kernel counts in nanoseconds; this is some thirty years.
const LONGEST_MEMORY: u64 = 1_000_000_000_000;

impl Encoder<'_> {
    /// Looks the packet up in a map that gives the verdict, and that counts what it decides.
    pub(super) fn lookup(
        &mut self,
        direction: Option<Direction>,
        lookup: &Lookup,
        out: &mut Vec<Expression>,
    ) {
        let points = lookup.entries.iter().all(|entry| entry.first == entry.last);
        self.sets += 1;
        let set = nf::Set {
            table: TABLE.into(),
            name: format!("map-{}", self.sets),
            flags: set_flags::CONSTANT
                | set_flags::MAP
                | if points { 0 } else { set_flags::INTERVAL },
            key_length: keys::length(lookup.key),
            id: self.sets,
            size: size_of_set(points, lookup.entries.len()),
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
            if points {
                continue;
            }
            // One more than the largest value of the field: the interval never ends.
            let behind = (entry.last.0.wrapping_add(1), 0);
            let end = keys::bytes(lookup.key, behind);
            if end.iter().any(|&byte| byte != 0) {
                elements.push(Element::end(end));
            }
        }
        self.batch.new_set(&set);
        let message = self.batch.new_elements(&set, &elements);
        self.ledger.note(message, None);
        out.extend(keys::load(lookup.key));
        out.push(Expression::Lookup {
            register: registers::FIRST,
            set: set.name,
            id: set.id,
            flags: 0,
            to_verdict: true,
        });
    }

    /// Lets senders pass while each keeps the rate. The set is bounded: senders beyond what it
    /// holds do not match, and meet the rules behind this one.
    pub(super) fn meter(
        &mut self,
        rate: Rate,
        by: Sender,
        rule: &ProgramRule,
        out: &mut Vec<Expression>,
    ) {
        let (offset, length) = keys::sender(by);
        let (set, id) = self.growing(length, SENDERS, rate, rule);
        out.push(payload(Base::Network, offset, length));
        self.told_apart.insert(by, (set.clone(), id));
        self.keep(set, id, rate, out);
    }

    /// Lets senders pass for which that set has no room while all whose addresses have one hash keep the
    /// rate together. So whoever fills the set with forged senders does not turn away every new one: as
    /// many forged ones more are needed in each place as the rate allows.
    pub(super) fn crowd(
        &mut self,
        rate: Rate,
        by: Sender,
        rule: &ProgramRule,
        out: &mut Vec<Expression>,
    ) {
        let (offset, length) = keys::sender(by);
        let Some((set, id)) = self.told_apart.get(&by).cloned() else {
            unreachable!("a rule that tells senders apart comes before");
        };
        out.push(payload(Base::Network, offset, length));
        out.push(Expression::Lookup {
            register: registers::FIRST,
            set,
            id,
            flags: NOT_IN,
            to_verdict: false,
        });
        out.push(Expression::Counter { packets: 0, bytes: 0 });
        out.push(Expression::Hash {
            source: registers::FIRST,
            destination: registers::FIRST,
            length,
            modulus: CROWDS,
            seed: None,
            offset: 0,
        });
        let (set, id) = self.growing(4, CROWDS, rate, rule);
        self.keep(set, id, rate, out);
    }

    /// A set that rules fill, of a limiter for each key; keys are forgotten when their limiters are
    /// full again.
    fn growing(&mut self, length: u32, size: u32, rate: Rate, rule: &ProgramRule) -> (String, u32) {
        self.sets += 1;
        let set = nf::Set {
            table: TABLE.into(),
            name: format!("set-{}", self.sets),
            flags: set_flags::DYNAMIC | set_flags::TIMEOUT,
            key_length: length,
            id: self.sets,
            size: Some(size),
            timeout: Some(refill_time(rate)),
            ..nf::Set::default()
        };
        let message = self.batch.new_set(&set);
        self.ledger.note(message, rule.id.as_ref());
        (set.name, set.id)
    }

    fn keep(&self, set: String, id: u32, rate: Rate, out: &mut Vec<Expression>) {
        out.push(Expression::Dynset { register: registers::FIRST, set, id, limit: limit(rate) });
        out.push(Expression::Counter { packets: 0, bytes: 0 });
        out.push(Expression::Immediate(Verdict::Accept));
    }

    /// A list of programs, as a set of the numbers in marks.
    pub(super) fn new_list(
        &mut self,
        paths: &[String],
        rule: &ProgramRule,
    ) -> Result<(String, u32), LinuxError> {
        let entries = self.marks.lists.get(paths).filter(|_| self.marks.mask != 0);
        let entries = entries.ok_or_else(|| LinuxError::RuleRefused {
            rule: rule.id.clone().unwrap_or_else(|| RuleId::rule("")),
            reason: format!("nothing marks the sockets of `{}`", paths.join("`, `")).into(),
        })?;
        let elements: Vec<Element> = entries
            .iter()
            .map(|entry| {
                let bits = Marks::bits(self.marks.mask, entry.number);
                Element {
                    user_data: entry.path.as_deref().map(user_data).unwrap_or_default(),
                    ..Element::key(bits.to_ne_bytes().to_vec())
                }
            })
            .collect();
        self.sets += 1;
        let set = nf::Set {
            table: TABLE.into(),
            name: format!("programs-{}", self.sets),
            flags: set_flags::CONSTANT,
            key_length: 4,
            id: self.sets,
            size: size_of_set(true, elements.len()),
            ..nf::Set::default()
        };
        self.batch.new_set(&set);
        let message = self.batch.new_elements(&set, &elements);
        self.ledger.note(message, rule.id.as_ref());
        Ok((set.name, set.id))
    }

    pub(super) fn new_set<T: Value>(
        &mut self,
        values: &RangeSet<T>,
        rule: &ProgramRule,
    ) -> (String, u32) {
        self.sets += 1;
        let spelled = spelled_out(values.ranges());
        let points = spelled.is_some();
        let ranges = spelled.as_deref().unwrap_or(values.ranges());
        let set = nf::Set {
            table: TABLE.into(),
            name: format!("set-{}", self.sets),
            flags: set_flags::CONSTANT | if points { 0 } else { set_flags::INTERVAL },
            key_length: T::LENGTH,
            id: self.sets,
            size: size_of_set(points, ranges.len()),
            ..nf::Set::default()
        };
        let mut elements = Vec::with_capacity(ranges.len() * if points { 1 } else { 2 });
        for &(first, last) in ranges {
            elements.push(Element::key(first.to_key()));
            if let (false, Some(behind)) = (points, last.next()) {
                elements.push(Element::end(behind.to_key()));
            }
        }
        self.batch.new_set(&set);
        let message = self.batch.new_elements(&set, &elements);
        self.ledger.note(message, rule.id.as_ref());
        (set.name, set.id)
    }
}

/// A set of single values that never changes is told how many there are: the kernel then takes
/// the form that is fastest to fill and to search.
fn size_of_set(points: bool, elements: usize) -> Option<u32> {
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

/// The time in milliseconds after which an idle sender's bucket is full again, so that it can be
/// forgotten without giving it more than the rate.
fn refill_time(rate: Rate) -> u64 {
    let time = u64::from(rate.burst) * u64::from(rate.seconds) * 1_000 / u64::from(rate.count);
    (time + 1_000).clamp(SHORTEST_MEMORY, LONGEST_MEMORY)
}
