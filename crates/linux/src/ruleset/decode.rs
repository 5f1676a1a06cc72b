//! Kernel rules back to program rules.
//!
//! Expressions are followed register by register. What is not understood becomes an opaque test
//! or action: it never counts as "matches" or "does not match".

use super::keys;
use super::marks::{Marks, Numbered};
use super::names::{CROWDS, LOG_GROUP, NOT_IN, USER_DATA_VERSION, interface_key, state_bit};
use super::tally::Count;
use super::values::{Key, before, largest, set_of};
use std::collections::HashMap;
use tipstaff_core::plan::{InterfaceTest, RuleId};
use tipstaff_core::policy::{Rate, Time};
use tipstaff_core::program::{Action, Entry, Key as LookupKey, Lookup, ProgramRule, Test, Then};
use tipstaff_core::space::{AddressSet, ConnectionState, Family, RangeSet, StateSet};
use tipstaff_wire::nf_tables::{
    Base, Compare, Element, Expression, FAMILY_IPV4, FAMILY_IPV6, Limit, MetaKey, PROHIBITED,
    RejectKind, Rule, SocketKey, Verdict, ct, registers,
};

/// Inclusive ranges of keys.
pub type Ranges = Vec<(Vec<u8>, Vec<u8>)>;

/// What a set holds.
#[derive(Debug)]
pub enum Found {
    /// Keys.
    Keys(Ranges),
    /// Numbers of programs at their places in marks, with the paths they stand for.
    Programs(Vec<(u32, Option<String>)>),
    /// The senders that a rate tells apart.
    Senders,
    /// Ranges of keys, each with the element that says what they lead to.
    Map(Vec<(Vec<u8>, Vec<u8>, Element)>),
}

/// What is in our sets.
#[derive(Default)]
pub struct Sets {
    by_name: HashMap<String, Found>,
    /// The lists of one program, by its number at its place in marks.
    alone: HashMap<u32, String>,
}

impl Sets {
    /// Adds a set.
    pub fn insert(&mut self, name: &str, found: Found) {
        if let Found::Programs(entries) = &found
            && let [(bits, _)] = entries[..]
        {
            self.alone.insert(bits, name.to_owned());
        }
        self.by_name.insert(name.to_owned(), found);
    }

    fn get(&self, name: &str) -> Option<&Found> {
        self.by_name.get(name)
    }

    /// The list on which that program alone stands.
    fn alone(&self, bits: u32) -> Option<&Found> {
        self.get(self.alone.get(&bits)?)
    }
}

/// A set's elements, in any order.
pub fn found(mut elements: Vec<Element>, intervals: bool, map: bool) -> Found {
    if map && intervals {
        let ranges = ranges(&mut elements, true);
        let mut starts = elements.into_iter().filter(|it| !it.ends_interval);
        let with_start = ranges.into_iter().filter_map(|(first, last)| {
            let start = starts.find(|start| start.key == first)?;
            Some((first, last, start))
        });
        Found::Map(with_start.collect())
    } else if map {
        elements.sort_by(|a, b| a.key.cmp(&b.key));
        let pair = |element: Element| (element.key.clone(), element.key.clone(), element);
        Found::Map(elements.into_iter().map(pair).collect())
    } else if elements.iter().any(|it| !it.user_data.is_empty()) {
        let number = |key: &[u8]| key.try_into().map_or(0, u32::from_ne_bytes);
        let entry = |it: &Element| (number(&it.key), text_of(&it.user_data).map(str::to_owned));
        Found::Programs(elements.iter().map(entry).collect())
    } else {
        Found::Keys(ranges(&mut elements, intervals))
    }
}

/// The text in user data of ours.
pub fn text_of(user_data: &[u8]) -> Option<&str> {
    let (version, text) = user_data.split_first()?;
    (*version == USER_DATA_VERSION).then(|| std::str::from_utf8(text).ok())?
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

/// What a register holds.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Field {
    InInterface,
    OutInterface,
    State,
    /// The state after masking.
    StateBits(u32),
    Family,
    Protocol,
    Source(Family),
    /// The first 64 bits of an IPv6 sender.
    SourceNetwork,
    /// The hash of a sender.
    Crowd,
    Destination(Family),
    /// The first byte behind the IP header.
    IcmpType,
    SourcePort,
    DestinationPort,
    Time,
    /// The time in network order.
    OrderedTime,
    SocketMark,
    /// The mark of the socket after masking.
    ProgramBits(u32),
    Unknown,
}

/// What rules that are not ours are called.
fn not_ours() -> RuleId {
    RuleId::rule("(not ours)")
}

/// A rule, and what goes with it.
pub struct Read {
    pub rule: ProgramRule,
    /// What it has counted, for each decision.
    pub counts: Vec<(RuleId, Count)>,
    /// What it has counted of senders for which there was no room.
    pub crowded: Option<(RuleId, Count)>,
    /// The programs that it names.
    pub marks: Marks,
    /// The set in which it keeps a limiter for each key, whether it is one of ours or not.
    pub keeps_in: Option<String>,
    /// The set that does not hold the senders that it is for.
    pub not_in: Option<String>,
}

/// Reads one rule; if `counted`, also what it has counted.
pub fn rule(rule: &Rule, sets: &Sets, counted: bool) -> Read {
    let id = match text_of(&rule.user_data) {
        Some("") => None,
        Some(name) => Some(RuleId::parse(name)),
        None => Some(not_ours()),
    };
    let mut reader = RuleReader {
        sets,
        registers: HashMap::new(),
        tests: Vec::new(),
        limit: None,
        counted,
        counts: Vec::new(),
        not_in: None,
        keeps_in: None,
        crowded: None,
        id,
        action: None,
        marks: Marks::default(),
    };
    for expression in &rule.expressions {
        reader.step(expression);
    }
    let action = match (reader.action, reader.limit) {
        (Some(Action::Allow), Some((limit, Keeps::Crowd))) => {
            rate(&limit, true).map_or_else(opaque_limit, Action::AllowCrowded)
        }
        // Whom a set does not hold is told only for that.
        (_, Some((_, Keeps::Crowd))) | (_, None)
            if reader.crowded.is_some() || reader.not_in.is_some() =>
        {
            Action::Opaque("lookup".into())
        }
        (Some(action), None) => action,
        (Some(Action::Allow), Some((limit, keeps))) if reader.not_in.is_none() => {
            let per_source = keeps == Keeps::EachSource;
            rate(&limit, per_source).map_or_else(opaque_limit, Action::AllowWithin)
        }
        (Some(Action::Log(None)), Some((limit, Keeps::All))) => {
            rate(&limit, false).map_or_else(opaque_limit, |cap| Action::Log(Some(cap)))
        }
        (Some(_), Some(_)) => opaque_limit(),
        (None, _) => Action::Opaque("no verdict".into()),
    };
    Read {
        rule: ProgramRule { id: reader.id, tests: reader.tests, action },
        counts: reader.counts,
        crowded: reader.crowded,
        marks: reader.marks,
        keeps_in: reader.keeps_in,
        not_in: reader.not_in,
    }
}

fn opaque_limit() -> Action {
    Action::Opaque("limit".into())
}

fn rate(limit: &Limit, per_source: bool) -> Option<Rate> {
    let (count, seconds) = (u32::try_from(limit.rate).ok()?, u32::try_from(limit.unit).ok()?);
    let plain = limit.kind == 0 && limit.flags == 0;
    plain.then_some(Rate { count, seconds, burst: limit.burst, per_source })
}

/// Who share a limiter.
#[derive(Clone, Copy, PartialEq)]
enum Keeps {
    All,
    EachSource,
    /// Those whose addresses have one hash.
    Crowd,
}

struct RuleReader<'a> {
    sets: &'a Sets,
    registers: HashMap<u32, Field>,
    tests: Vec<Test>,
    /// The limiter, and who share it.
    limit: Option<(Limit, Keeps)>,
    /// The set of senders told apart, if only those come so far that it does not hold.
    not_in: Option<String>,
    /// The set that keeps the limiters.
    keeps_in: Option<String>,
    /// What has been counted of those.
    crowded: Option<(RuleId, Count)>,
    counted: bool,
    counts: Vec<(RuleId, Count)>,
    id: Option<RuleId>,
    action: Option<Action>,
    marks: Marks,
}

impl RuleReader<'_> {
    fn step(&mut self, expression: &Expression) {
        if self.action.is_some() {
            // Something behind the verdict: this is not a rule that we understand.
            self.action = Some(Action::Opaque(expression.name().into()));
            return;
        }
        if let Expression::Dynset { set, .. } = expression {
            self.keeps_in = Some(set.clone());
        }
        match expression {
            Expression::Meta { key, register } => {
                let field = match key {
                    MetaKey::InInterfaceName => Field::InInterface,
                    MetaKey::OutInterfaceName => Field::OutInterface,
                    MetaKey::Family => Field::Family,
                    MetaKey::Protocol => Field::Protocol,
                    MetaKey::Time => Field::Time,
                    MetaKey::Unknown(_) => Field::Unknown,
                };
                self.load(*register, field);
            }
            Expression::Socket { key: SocketKey::Mark, register } => {
                self.load(*register, Field::SocketMark);
            }
            Expression::Payload { base, offset, length, register } => {
                let field = self.payload(*base, *offset, *length);
                self.load(*register, field);
            }
            Expression::Ct { key, register } => {
                let field = if *key == ct::STATE { Field::State } else { Field::Unknown };
                self.load(*register, field);
            }
            Expression::Bitwise { source, destination, length: 4, mask, xor }
                if xor.iter().all(|&byte| byte == 0) =>
            {
                let mask = mask.as_slice().try_into().map_or(0, u32::from_ne_bytes);
                let field = match self.field(*source) {
                    Field::State => Field::StateBits(mask),
                    Field::SocketMark => Field::ProgramBits(mask),
                    _ => Field::Unknown,
                };
                self.load(*destination, field);
            }
            Expression::Byteorder { source, destination } => {
                let time = self.field(*source) == Field::Time;
                self.load(*destination, if time { Field::OrderedTime } else { Field::Unknown });
            }
            Expression::Bitwise { destination, .. } => {
                self.load(*destination, Field::Unknown);
            }
            Expression::Cmp { register, op: Compare::Equal, data }
                if matches!(self.field(*register), Field::ProgramBits(_)) =>
            {
                let bits = data.as_slice().try_into().map_or(0, u32::from_ne_bytes);
                let test = match self.sets.alone(bits) {
                    Some(Found::Programs(entries)) => self.programs(*register, entries),
                    _ => Test::Opaque("cmp".into()),
                };
                self.tests.push(test);
            }
            Expression::Cmp { register, op, data } => {
                let test = self.compare(*register, *op, data);
                self.tests.push(test);
            }
            Expression::Range { register, op: Compare::Equal, from, to } => {
                let test = self.one_of(*register, &[(from.clone(), to.clone())]);
                self.tests.push(test);
            }
            Expression::Lookup { register, set, flags: 0, to_verdict: false, .. } => {
                let test = match self.sets.get(set) {
                    Some(Found::Keys(ranges)) => self.one_of(*register, ranges),
                    Some(Found::Programs(entries)) => self.programs(*register, entries),
                    _ => Test::Opaque("lookup".into()),
                };
                self.tests.push(test);
            }
            Expression::Lookup { register, set, flags: NOT_IN, to_verdict: false, .. }
                if matches!(
                    self.field(*register),
                    Field::Source(Family::V4) | Field::SourceNetwork
                ) && matches!(self.sets.get(set), Some(Found::Senders)) =>
            {
                self.not_in = Some(set.clone());
            }
            Expression::Hash {
                source,
                destination,
                modulus: CROWDS,
                offset: 0,
                seed: None,
                ..
            } => {
                let field = match self.field(*source) {
                    Field::Source(Family::V4) | Field::SourceNetwork => Field::Crowd,
                    _ => Field::Unknown,
                };
                self.load(*destination, field);
            }
            Expression::Hash { destination, .. } => self.load(*destination, Field::Unknown),
            Expression::Lookup { register, set, flags: 0, to_verdict: true, .. } => {
                let lookup = self.choose(*register, set);
                self.action =
                    Some(lookup.map_or_else(|| Action::Opaque("lookup".into()), Action::Choose));
            }
            Expression::Counter { .. } if !self.counted => {}
            Expression::Counter { packets, bytes } => {
                let count = Count { packets: *packets, bytes: *bytes };
                if self.not_in.is_some() && self.limit.is_none() {
                    self.crowded = self.id.clone().map(|id| (id, count));
                    return;
                }
                self.counts.extend(self.id.clone().map(|id| (id, count)));
            }
            Expression::Log { group: LOG_GROUP, prefix, .. }
                if self.id.as_ref().is_some_and(|id| id.to_string() == *prefix) =>
            {
                self.action = Some(Action::Log(None));
            }
            Expression::Limit(limit) if self.limit.is_none() => {
                self.limit = Some((*limit, Keeps::All));
            }
            Expression::Dynset { register, limit, .. }
                if self.limit.is_none()
                    && matches!(
                        self.field(*register),
                        Field::Source(Family::V4) | Field::SourceNetwork
                    ) =>
            {
                self.limit = Some((*limit, Keeps::EachSource));
            }
            Expression::Dynset { register, limit, .. }
                if self.limit.is_none()
                    && self.not_in.is_some()
                    && self.field(*register) == Field::Crowd =>
            {
                self.limit = Some((*limit, Keeps::Crowd));
            }
            Expression::Immediate(verdict) => self.action = Some(verdict_action(verdict)),
            Expression::Reject { kind: RejectKind::TcpReset, .. } => {
                self.action = Some(Action::Reset);
            }
            Expression::Reject { kind: RejectKind::Unreachable, code: PROHIBITED } => {
                self.action = Some(Action::Prohibit);
            }
            other => self.tests.push(Test::Opaque(other.name().into())),
        }
    }

    fn load(&mut self, register: u32, field: Field) {
        self.registers.insert(registers::word(register), field);
    }

    fn field(&self, register: u32) -> Field {
        self.registers.get(&registers::word(register)).copied().unwrap_or(Field::Unknown)
    }

    /// A comparison with numbers of programs.
    fn programs(&mut self, register: u32, entries: &[(u32, Option<String>)]) -> Test {
        let Field::ProgramBits(mask) = self.field(register) else {
            return Test::Opaque("lookup".into());
        };
        let entry = |(bits, path): &(u32, Option<String>)| Numbered {
            number: Marks::number_in(mask, *bits),
            path: path.clone(),
        };
        let mut paths: Vec<String> = entries.iter().filter_map(|it| it.1.clone()).collect();
        paths.sort();
        self.marks.mask = mask;
        self.marks.lists.insert(paths.clone(), entries.iter().map(entry).collect());
        Test::Program(paths)
    }

    /// A lookup in a map of verdicts, from what the registers hold.
    fn choose(&mut self, register: u32, set: &str) -> Option<Lookup> {
        let Some(Found::Map(elements)) = self.sets.get(set) else { return None };
        let bytes = u32::try_from(elements.first()?.0.len()).ok()?;
        let behind = |words: u32| self.field(registers::word(register) + words);
        let service = |address: u32| {
            bytes == (address + 2) * 4
                && behind(address) == Field::Protocol
                && behind(address + 1) == Field::DestinationPort
        };
        let key = match self.field(register) {
            Field::Source(family) if service(words(family)) => LookupKey::SourceService(family),
            Field::Destination(family) if service(words(family)) => {
                LookupKey::DestinationService(family)
            }
            Field::Source(family) => LookupKey::Source(family),
            Field::Destination(family) => LookupKey::Destination(family),
            Field::DestinationPort => LookupKey::DestinationPort,
            Field::IcmpType => LookupKey::IcmpType,
            _ => return None,
        };
        let mut entries = Vec::with_capacity(elements.len());
        for (first, last, element) in elements {
            let id = || text_of(&element.user_data).map_or_else(not_ours, RuleId::parse);
            let then = match element.verdict.as_ref()? {
                Verdict::Accept => Then::Allow(id()),
                Verdict::Drop => Then::Deny(id()),
                Verdict::Jump(chain) => Then::Jump(chain.clone()),
                Verdict::Other(code, _) => Then::Opaque(format!("verdict {code}")),
            };
            if let (Then::Allow(id) | Then::Deny(id), Some((packets, bytes)), true) =
                (&then, element.count, self.counted)
            {
                self.counts.push((id.clone(), Count { packets, bytes }));
            }
            let (first, last) = (keys::value(key, first)?, keys::value(key, last)?);
            entries.push(Entry { first, last, then });
        }
        Some(Lookup { key, entries })
    }

    /// Which field some bytes are depends on what has been tested before them.
    fn payload(&self, base: Base, offset: u32, length: u32) -> Field {
        let family = self.tests.iter().find_map(|test| match test {
            Test::Family(family) => Some(*family),
            _ => None,
        });
        match (base, offset, length, family) {
            (Base::Network, 8, 8, Some(Family::V6)) => Field::SourceNetwork,
            (Base::Network, offset, length, Some(family)) => {
                if (offset, length) == keys::source(family) {
                    Field::Source(family)
                } else if (offset, length) == keys::destination(family) {
                    Field::Destination(family)
                } else {
                    Field::Unknown
                }
            }
            (Base::Transport, 0, 1, _) => Field::IcmpType,
            (Base::Transport, 0, 2, _) => Field::SourcePort,
            (Base::Transport, 2, 2, _) => Field::DestinationPort,
            _ => Field::Unknown,
        }
    }

    fn compare(&self, register: u32, op: Compare, data: &[u8]) -> Test {
        let opaque = || Test::Opaque("cmp".into());
        match (self.field(register), op) {
            (Field::InInterface, _) => interface(op, data).map_or_else(opaque, Test::InInterface),
            (Field::OutInterface, _) => interface(op, data).map_or_else(opaque, Test::OutInterface),
            (Field::Family, Compare::Equal) => match data {
                [FAMILY_IPV4] => Test::Family(Family::V4),
                [FAMILY_IPV6] => Test::Family(Family::V6),
                _ => opaque(),
            },
            (Field::StateBits(mask), Compare::NotEqual) if data == [0; 4] => {
                states(mask).map_or_else(opaque, Test::State)
            }
            (Field::OrderedTime, Compare::Less) => moment(data).map_or_else(opaque, Test::Before),
            (_, Compare::Equal) => self.one_of(register, &[(data.to_vec(), data.to_vec())]),
            _ => opaque(),
        }
    }

    fn one_of(&self, register: u32, ranges: &[(Vec<u8>, Vec<u8>)]) -> Test {
        fn test<T: Key>(
            ranges: &[(Vec<u8>, Vec<u8>)],
            make: impl FnOnce(RangeSet<T>) -> Test,
        ) -> Option<Test> {
            set_of(ranges).map(make)
        }
        let test = match self.field(register) {
            Field::Protocol => test(ranges, Test::Protocol),
            Field::IcmpType => test(ranges, Test::IcmpType),
            Field::SourcePort => test(ranges, Test::SourcePort),
            Field::DestinationPort => test(ranges, Test::DestinationPort),
            Field::Source(Family::V4) => test(ranges, |v4| Test::Source(only_v4(v4))),
            Field::Source(Family::V6) => test(ranges, |v6| Test::Source(only_v6(v6))),
            Field::Destination(Family::V4) => test(ranges, |v4| Test::Destination(only_v4(v4))),
            Field::Destination(Family::V6) => test(ranges, |v6| Test::Destination(only_v6(v6))),
            _ => None,
        };
        test.unwrap_or_else(|| Test::Opaque("comparison".into()))
    }
}

/// How many registers of four bytes an address takes.
fn words(family: Family) -> u32 {
    keys::source(family).1 / 4
}

fn only_v4(v4: RangeSet<u32>) -> AddressSet {
    AddressSet { v4, v6: RangeSet::empty() }
}

fn only_v6(v6: RangeSet<u128>) -> AddressSet {
    AddressSet { v4: RangeSet::empty(), v6 }
}

fn moment(data: &[u8]) -> Option<Time> {
    let nanoseconds = u64::from_be_bytes(data.try_into().ok()?);
    let seconds = i64::try_from(nanoseconds / 1_000_000_000).ok()?;
    (nanoseconds % 1_000_000_000 == 0).then(|| Time::from_seconds(seconds))
}

fn interface(op: Compare, data: &[u8]) -> Option<InterfaceTest> {
    let name = std::str::from_utf8(data).ok()?.trim_end_matches('\0').to_owned();
    // A comparison of fewer bytes than a whole name is one with a beginning.
    if interface_key(&name) != data {
        return None;
    }
    match op {
        Compare::Equal => Some(InterfaceTest::Is(name)),
        Compare::NotEqual => Some(InterfaceTest::IsNot(name)),
        Compare::Less | Compare::Unknown(_) => None,
    }
}

fn states(mask: u32) -> Option<StateSet> {
    let found: Vec<ConnectionState> =
        ConnectionState::ALL.into_iter().filter(|&state| mask & state_bit(state) != 0).collect();
    let known = found.iter().fold(0, |bits, &state| bits | state_bit(state));
    (known == mask).then(|| StateSet::of(&found))
}

fn verdict_action(verdict: &Verdict) -> Action {
    match verdict {
        Verdict::Accept => Action::Allow,
        Verdict::Drop => Action::Deny,
        Verdict::Jump(chain) => Action::Jump(chain.clone()),
        Verdict::Other(code, _) => Action::Opaque(format!("verdict {code}")),
    }
}
