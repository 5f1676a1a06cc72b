//! Expressions followed one after the other.

use super::super::keys;
use super::super::marks::{Marks, Numbered};
use super::super::names::{CROWDS, LOG_GROUP, NOT_IN, text_of};
use super::super::tally::Count;
use super::comparisons::{compare, one_of};
use super::field::{Field, payload};
use super::found::{Found, Sets};
use std::collections::HashMap;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{Action, Entry, Key as LookupKey, Lookup, Sender, Test, Then};
use tipstaff_core::space::Family;
use tipstaff_wire::nf_tables::{
    Compare, Expression, Limit, MetaKey, PROHIBITED, RejectKind, SocketKey, Verdict, ct, registers,
};

/// What rules that are not ours are called.
pub fn not_ours() -> RuleId {
    RuleId::rule("(not ours)")
}

/// Who share a limiter.
#[derive(Clone, Copy, PartialEq)]
pub enum Keeps {
    All,
    Each(Sender),
    /// Those whose addresses have one hash.
    Crowd(Sender),
}

pub struct RuleReader<'a> {
    pub sets: &'a Sets,
    pub registers: HashMap<u32, Field>,
    pub tests: Vec<Test>,
    /// The limiter, and who share it.
    pub limit: Option<(Limit, Keeps)>,
    /// The set of senders told apart, if only those come so far that it does not hold.
    pub not_in: Option<String>,
    /// The set that keeps the limiters.
    pub keeps_in: Option<String>,
    /// What has been counted of those.
    pub crowded: Option<(RuleId, Count)>,
    pub counted: bool,
    pub counts: Vec<(RuleId, Count)>,
    pub id: Option<RuleId>,
    pub action: Option<Action>,
    pub marks: Marks,
}

impl<'a> RuleReader<'a> {
    /// One that has met nothing yet.
    pub fn new(id: Option<RuleId>, sets: &'a Sets, counted: bool) -> Self {
        Self {
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
        }
    }

    /// Follows one expression of the rule.
    pub fn step(&mut self, expression: &Expression) {
        if self.action.is_some() {
            // Something behind the verdict: this is not a rule that we understand.
            self.action = Some(Action::Opaque(expression.name().into()));
            return;
        }
        let understood = self.loads(expression)
            || self.compares(expression)
            || self.counts_or_keeps(expression)
            || self.decides(expression);
        if !understood {
            self.tests.push(Test::Opaque(expression.name().into()));
        }
    }

    /// What puts something into a register.
    fn loads(&mut self, expression: &Expression) -> bool {
        let (register, field) = match expression {
            Expression::Meta { key, register } => {
                let field = match key {
                    MetaKey::InInterfaceName => Field::InInterface,
                    MetaKey::OutInterfaceName => Field::OutInterface,
                    MetaKey::Family => Field::Family,
                    MetaKey::Protocol => Field::Protocol,
                    MetaKey::Time => Field::Time,
                    MetaKey::Unknown(_) => Field::Unknown,
                };
                (register, field)
            }
            Expression::Socket { key: SocketKey::Mark, register } => (register, Field::SocketMark),
            Expression::Payload { base, offset, length, register } => {
                (register, payload(&self.tests, *base, *offset, *length))
            }
            Expression::Ct { key, register } => {
                (register, if *key == ct::STATE { Field::State } else { Field::Unknown })
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
                (destination, field)
            }
            Expression::Byteorder { source, destination } => {
                let time = self.field(*source) == Field::Time;
                (destination, if time { Field::OrderedTime } else { Field::Unknown })
            }
            Expression::Hash {
                source,
                destination,
                modulus: CROWDS,
                offset: 0,
                seed: None,
                ..
            } => {
                let sender = self.field(*source).sender();
                (destination, sender.map_or(Field::Unknown, Field::Crowd))
            }
            Expression::Bitwise { destination, .. } | Expression::Hash { destination, .. } => {
                (destination, Field::Unknown)
            }
            _ => return false,
        };
        self.registers.insert(registers::word(*register), field);
        true
    }

    /// What goes on only with some packets.
    fn compares(&mut self, expression: &Expression) -> bool {
        let test = match expression {
            Expression::Cmp { register, op: Compare::Equal, data }
                if matches!(self.field(*register), Field::ProgramBits(_)) =>
            {
                let bits = data.as_slice().try_into().map_or(0, u32::from_ne_bytes);
                match self.sets.alone(bits) {
                    Some(Found::Programs(entries)) => self.programs(*register, entries),
                    _ => Test::Opaque("cmp".into()),
                }
            }
            Expression::Cmp { register, op, data } => compare(self.field(*register), *op, data),
            Expression::Range { register, op: Compare::Equal, from, to } => {
                one_of(self.field(*register), &[(from.clone(), to.clone())])
            }
            Expression::Lookup { register, set, flags: 0, to_verdict: false, .. } => {
                match self.sets.get(set) {
                    Some(Found::Keys(ranges)) => one_of(self.field(*register), ranges),
                    Some(Found::Programs(entries)) => self.programs(*register, entries),
                    _ => Test::Opaque("lookup".into()),
                }
            }
            _ => return false,
        };
        self.tests.push(test);
        true
    }

    /// What counts, and what keeps a rate, or is for those for whom there was no room.
    fn counts_or_keeps(&mut self, expression: &Expression) -> bool {
        match expression {
            Expression::Lookup { register, set, flags: NOT_IN, to_verdict: false, .. }
                if self.field(*register).sender().is_some()
                    && matches!(self.sets.get(set), Some(Found::Senders)) =>
            {
                self.not_in = Some(set.clone());
            }
            Expression::Counter { .. } if !self.counted => {}
            Expression::Counter { packets, bytes } => {
                let count = Count { packets: *packets, bytes: *bytes };
                if self.not_in.is_some() && self.limit.is_none() {
                    self.crowded = self.id.clone().map(|id| (id, count));
                } else {
                    self.counts.extend(self.id.clone().map(|id| (id, count)));
                }
            }
            Expression::Limit(limit) if self.limit.is_none() => {
                self.limit = Some((*limit, Keeps::All));
            }
            Expression::Dynset { register, set, limit, .. } => {
                self.keeps_in = Some(set.clone());
                let field = self.field(*register);
                let keeps = match (field.sender(), field) {
                    (Some(sender), _) => Keeps::Each(sender),
                    (None, Field::Crowd(sender)) if self.not_in.is_some() => Keeps::Crowd(sender),
                    _ => return false,
                };
                if self.limit.is_some() {
                    return false;
                }
                self.limit = Some((*limit, keeps));
            }
            _ => return false,
        }
        true
    }

    /// What ends the rule.
    fn decides(&mut self, expression: &Expression) -> bool {
        self.action = Some(match expression {
            Expression::Lookup { register, set, flags: 0, to_verdict: true, .. } => {
                let lookup = self.choose(*register, set);
                lookup.map_or_else(|| Action::Opaque("lookup".into()), Action::Choose)
            }
            Expression::Log { group: LOG_GROUP, prefix, .. }
                if self.id.as_ref().is_some_and(|id| id.to_string() == *prefix) =>
            {
                Action::Log(None)
            }
            Expression::Immediate(verdict) => verdict_action(verdict),
            Expression::Reject { kind: RejectKind::TcpReset, .. } => Action::Reset,
            Expression::Reject { kind: RejectKind::Unreachable, code: PROHIBITED } => {
                Action::Prohibit
            }
            _ => return false,
        });
        true
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
}

/// How many registers of four bytes an address takes.
fn words(family: Family) -> u32 {
    keys::source(family).1 / 4
}

fn verdict_action(verdict: &Verdict) -> Action {
    match verdict {
        Verdict::Accept => Action::Allow,
        Verdict::Drop => Action::Deny,
        Verdict::Jump(chain) => Action::Jump(chain.clone()),
        Verdict::Other(code, _) => Action::Opaque(format!("verdict {code}")),
    }
}
