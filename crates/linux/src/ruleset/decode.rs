//! Kernel rules back to program rules.
//!
//! Expressions are followed register by register. What is not understood becomes an opaque test
//! or action: it never counts as "matches" or "does not match".

use super::encode::{USER_DATA_VERSION, interface_key, state_bit};
use super::read::Count;
use super::values::{Key, before, largest, set_of};
use std::collections::HashMap;
use tipstaff_core::plan::{InterfaceTest, RuleId};
use tipstaff_core::policy::Rate;
use tipstaff_core::program::{Action, ProgramRule, Test};
use tipstaff_core::space::{AddressSet, ConnectionState, Family, RangeSet, StateSet};
use tipstaff_wire::nf_tables::{
    Base, Compare, Element, Expression, FAMILY_IPV4, FAMILY_IPV6, Limit, MetaKey, PROHIBITED,
    RejectKind, Rule, Verdict, ct,
};

/// Inclusive ranges of keys.
pub type Ranges = Vec<(Vec<u8>, Vec<u8>)>;

/// The text in user data of ours.
pub fn text_of(user_data: &[u8]) -> Option<&str> {
    let (version, text) = user_data.split_first()?;
    (*version == USER_DATA_VERSION).then(|| std::str::from_utf8(text).ok())?
}

/// A set's elements, in any order, as ranges.
pub fn ranges(elements: &mut [Element], intervals: bool) -> Ranges {
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
    Destination(Family),
    /// The first byte behind the IP header.
    IcmpType,
    SourcePort,
    DestinationPort,
    Unknown,
}

/// Reads one rule; also what it has counted.
pub fn rule(rule: &Rule, sets: &HashMap<String, Ranges>) -> (ProgramRule, Option<Count>) {
    let name = text_of(&rule.user_data);
    let id = name.map_or_else(|| RuleId::rule("(not ours)"), RuleId::parse);
    let mut reader = RuleReader {
        sets,
        registers: HashMap::new(),
        tests: Vec::new(),
        limit: None,
        count: None,
        action: None,
    };
    for expression in &rule.expressions {
        reader.step(expression);
    }
    let action = match (reader.action, reader.limit) {
        (Some(action), None) => action,
        (Some(Action::Allow), Some((limit, per_source))) => limited(&limit, per_source),
        (Some(_), Some(_)) => Action::Opaque("limit".into()),
        (None, _) => Action::Opaque("no verdict".into()),
    };
    (ProgramRule { id, tests: reader.tests, action }, reader.count)
}

fn limited(limit: &Limit, per_source: bool) -> Action {
    let rate = u32::try_from(limit.rate).ok().zip(u32::try_from(limit.unit).ok());
    match (rate, limit.kind, limit.flags) {
        (Some((count, seconds)), 0, 0) => {
            Action::AllowWithin(Rate { count, seconds, burst: limit.burst, per_source })
        }
        _ => Action::Opaque("limit".into()),
    }
}

struct RuleReader<'a> {
    sets: &'a HashMap<String, Ranges>,
    registers: HashMap<u32, Field>,
    tests: Vec<Test>,
    /// The limiter, and whether each sender has its own.
    limit: Option<(Limit, bool)>,
    count: Option<Count>,
    action: Option<Action>,
}

impl RuleReader<'_> {
    fn step(&mut self, expression: &Expression) {
        if self.action.is_some() {
            // Something behind the verdict: this is not a rule that we understand.
            self.action = Some(Action::Opaque(expression.name().into()));
            return;
        }
        match expression {
            Expression::Meta { key, register } => {
                let field = match key {
                    MetaKey::InInterfaceName => Field::InInterface,
                    MetaKey::OutInterfaceName => Field::OutInterface,
                    MetaKey::Family => Field::Family,
                    MetaKey::Protocol => Field::Protocol,
                    MetaKey::Unknown(_) => Field::Unknown,
                };
                self.registers.insert(*register, field);
            }
            Expression::Payload { base, offset, length, register } => {
                let field = self.payload(*base, *offset, *length);
                self.registers.insert(*register, field);
            }
            Expression::Ct { key, register } => {
                let field = if *key == ct::STATE { Field::State } else { Field::Unknown };
                self.registers.insert(*register, field);
            }
            Expression::Bitwise { source, destination, length: 4, mask, xor }
                if self.field(*source) == Field::State && xor.iter().all(|&byte| byte == 0) =>
            {
                let mask = mask.as_slice().try_into().map_or(0, u32::from_ne_bytes);
                self.registers.insert(*destination, Field::StateBits(mask));
            }
            Expression::Bitwise { destination, .. } => {
                self.registers.insert(*destination, Field::Unknown);
            }
            Expression::Cmp { register, op, data } => {
                let test = self.compare(*register, *op, data);
                self.tests.push(test);
            }
            Expression::Range { register, op: Compare::Equal, from, to } => {
                let test = self.one_of(*register, &[(from.clone(), to.clone())]);
                self.tests.push(test);
            }
            Expression::Lookup { register, set, flags: 0, .. } => {
                let test = match self.sets.get(set) {
                    Some(ranges) => self.one_of(*register, ranges),
                    None => Test::Opaque("lookup".into()),
                };
                self.tests.push(test);
            }
            Expression::Counter { packets, bytes } => {
                self.count = Some(Count { packets: *packets, bytes: *bytes });
            }
            Expression::Limit(limit) if self.limit.is_none() => self.limit = Some((*limit, false)),
            Expression::Meter { register, limit, .. }
                if self.limit.is_none()
                    && matches!(
                        self.field(*register),
                        Field::Source(Family::V4) | Field::SourceNetwork
                    ) =>
            {
                self.limit = Some((*limit, true));
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

    fn field(&self, register: u32) -> Field {
        self.registers.get(&register).copied().unwrap_or(Field::Unknown)
    }

    /// Which field some bytes are depends on what has been tested before them.
    fn payload(&self, base: Base, offset: u32, length: u32) -> Field {
        let family = self.tests.iter().find_map(|test| match test {
            Test::Family(family) => Some(*family),
            _ => None,
        });
        match (base, offset, length, family) {
            (Base::Network, 12, 4, Some(Family::V4)) => Field::Source(Family::V4),
            (Base::Network, 16, 4, Some(Family::V4)) => Field::Destination(Family::V4),
            (Base::Network, 8, 16, Some(Family::V6)) => Field::Source(Family::V6),
            (Base::Network, 8, 8, Some(Family::V6)) => Field::SourceNetwork,
            (Base::Network, 24, 16, Some(Family::V6)) => Field::Destination(Family::V6),
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

fn only_v4(v4: RangeSet<u32>) -> AddressSet {
    AddressSet { v4, v6: RangeSet::empty() }
}

fn only_v6(v6: RangeSet<u128>) -> AddressSet {
    AddressSet { v4: RangeSet::empty(), v6 }
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
        Compare::Unknown(_) => None,
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
