//! Expressions followed one after the other.

use super::super::keys::{self, Way};
use super::super::marks::Marks;
use super::super::names::{LOG_GROUP, NOT_IN, links, text_of};
use super::super::record::{
    Decided, Found as Numbered, Leads, Refusal, end, found_by, is_recorded, numbers_of,
};
use super::super::tally::Count;
use super::comparisons::{compare, one_of, published};
use super::field::{Field, Registers};
use super::found::{Found, Sets};
use super::limiters::Limiter;
use super::programs::programs;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{Action, End, Entry, Key as LookupKey, Lookup, Test, Then};
use tipstaff_core::space::{Direction, Family};
use tipstaff_wire::nf_tables::{Compare, Expression, PROHIBITED, RejectKind, Verdict};

/// What rules that are not ours are called.
pub(crate) fn not_ours() -> RuleId {
    RuleId::rule("(not ours)")
}

pub(super) struct RuleReader<'a> {
    pub sets: &'a Sets,
    pub registers: Registers,
    pub tests: Vec<Test>,
    /// What limits the rule.
    pub limiter: Limiter,
    /// What has been counted of senders for whom there was no room.
    pub crowded: Option<(RuleId, Count)>,
    pub counted: bool,
    pub counts: Vec<(RuleId, Count)>,
    pub id: Option<RuleId>,
    pub action: Option<Action>,
    pub marks: Marks,
    direction: Option<Direction>,
    /// The chains of the record that it leads to.
    pub leads: Vec<(String, Leads)>,
    /// Whether it turns away, or admits, without that being remembered.
    pub forgets: (bool, bool),
}

impl<'a> RuleReader<'a> {
    /// One that has met nothing yet.
    pub(super) fn new(
        id: Option<RuleId>,
        direction: Option<Direction>,
        sets: &'a Sets,
        counted: bool,
    ) -> Self {
        Self {
            sets,
            registers: Registers::default(),
            tests: Vec::new(),
            limiter: Limiter::default(),
            counted,
            counts: Vec::new(),
            crowded: None,
            id,
            action: None,
            marks: Marks::default(),
            direction,
            leads: Vec::new(),
            forgets: (false, false),
        }
    }

    /// Takes down that the rule's verdict is not remembered.
    pub(super) fn forgets_verdict(&mut self) {
        match &self.action {
            Some(Action::Deny | Action::Reset | Action::Prohibit) => self.forgets.0 = true,
            Some(Action::Allow) => self.forgets.1 |= self.id.as_ref().is_some_and(is_recorded),
            _ => {}
        }
    }

    /// Follows one expression of the rule.
    pub(super) fn step(&mut self, expression: &Expression) {
        if self.action.is_some() {
            // Something behind the verdict: this is not a rule that we understand.
            self.action = Some(Action::Opaque(expression.name().into()));
            return;
        }
        let understood = self.registers.load(expression, &self.tests)
            || self.compares(expression)
            || self.counts(expression)
            || self.limiter.step(expression, &self.registers, self.sets)
            || self.decides(expression);
        if !understood {
            self.tests.push(Test::Opaque(expression.name().into()));
        }
    }

    /// What goes on only with some packets.
    fn compares(&mut self, expression: &Expression) -> bool {
        let named = programs(expression, &self.registers, self.sets, &mut self.marks);
        if let Some(test) = named {
            self.tests.push(test);
            return true;
        }
        let test = match expression {
            Expression::Lookup {
                register,
                set,
                flags: flags @ (0 | NOT_IN),
                to_verdict: false,
                ..
            } if Family::BOTH.iter().any(|it| links(*it) == set) => {
                on_link(self.registers.get(*register), set, *flags == 0)
            }
            Expression::Cmp { register, op, data } => {
                compare(self.registers.get(*register), *op, data)
            }
            Expression::Range { register, op: Compare::Equal, from, to } => {
                one_of(self.registers.get(*register), &[(from.clone(), to.clone())])
            }
            Expression::Lookup { register, set, flags: 0, to_verdict: false, .. } => {
                match self.sets.get(set) {
                    Some(Found::Keys(ranges)) => one_of(self.registers.get(*register), ranges),
                    _ => Test::Opaque("lookup".into()),
                }
            }
            _ => return false,
        };
        let test = published(test, &mut self.tests);
        self.tests.push(test);
        true
    }

    /// Reads a counter, if it is one.
    fn counts(&mut self, expression: &Expression) -> bool {
        match expression {
            Expression::Counter { .. } if !self.counted => {}
            Expression::Counter { packets, bytes } => {
                let count = Count { packets: *packets, bytes: *bytes };
                if self.limiter.is_about_the_crowd() {
                    self.crowded = self.id.clone().map(|id| (id, count));
                } else {
                    self.counts.extend(self.id.clone().map(|id| (id, count)));
                }
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

    /// A lookup in a map of verdicts, from what the registers hold.
    fn choose(&mut self, register: u32, set: &str) -> Option<Lookup> {
        let Some(Found::Map(elements, intervals)) = self.sets.get(set) else { return None };
        let bytes = u32::try_from(elements.first()?.0.len()).ok()?;
        let behind = |words: u32| self.registers.behind(register, words);
        let service = |address: u32| {
            bytes == (address + 2) * 4
                && behind(address) == Field::Protocol
                && behind(address + 1) == Field::DestinationPort
        };
        let single = if *intervals { Way::Intervals } else { Way::Blocks(0) };
        let (key, way) = match self.registers.get(register) {
            Field::Source(family) if service(words(family)) => {
                (LookupKey::SourceService(family), single)
            }
            Field::Destination(family) if service(words(family)) => {
                (LookupKey::DestinationService(family), single)
            }
            Field::Source(family) => (LookupKey::Source(family), single),
            Field::Destination(family) => (LookupKey::Destination(family), single),
            Field::SourceBlock(family, way) if !intervals => (LookupKey::Source(family), way),
            Field::DestinationBlock(family, way) if !intervals => {
                (LookupKey::Destination(family), way)
            }
            Field::DestinationPort => (LookupKey::DestinationPort, single),
            Field::IcmpType => (LookupKey::IcmpType, single),
            _ => return None,
        };
        let mut entries = Vec::with_capacity(elements.len());
        for (first, last, element) in elements {
            let id = || text_of(&element.user_data).map_or_else(not_ours, RuleId::parse);
            let then = match element.verdict.as_ref()? {
                Verdict::Accept => {
                    self.forgets.1 |= is_recorded(&id());
                    Then::Allow(id())
                }
                Verdict::Drop => {
                    self.forgets.0 = true;
                    Then::Deny(id())
                }
                Verdict::Goto(chain) => self
                    .remembered(chain, (set, (key, way)), (first, last), id())
                    .unwrap_or_else(opaque),
                Verdict::Jump(chain) => Then::Jump(chain.clone()),
                Verdict::Return | Verdict::Other(..) => opaque(),
            };
            if let (Then::Allow(id) | Then::Deny(id), Some((packets, bytes)), true) =
                (&then, element.count, self.counted)
            {
                self.counts.push((id.clone(), Count { packets, bytes }));
            }
            let first = keys::value(key, first)?;
            let last = if *intervals { keys::value(key, last)? } else { way.last(first)? };
            entries.push(Entry { first, last, then });
        }
        Some(Lookup { key, entries })
    }

    /// What an entry comes to that leads to where its decision gets its number, if that is the right one.
    fn remembered(
        &mut self,
        chain: &str,
        (map, key): (&str, (LookupKey, Way)),
        range: (&Vec<u8>, &Vec<u8>),
        id: RuleId,
    ) -> Option<Then> {
        let direction = self.direction?;
        let (numbers, end) = (numbers_of(map), end(direction));
        let refusal = [None, Some(Refusal::Drop)]
            .into_iter()
            .find(|it| found_by(&numbers, end, *it) == chain)?;
        let Some(Found::Numbers(of)) = self.sets.get(&numbers) else { return None };
        let number = of.get(&(range.0.clone(), range.1.clone()))?;
        let decided = Decided { direction, id, admitted: refusal.is_none() };
        if self.sets.decisions.get(number) != Some(&decided) {
            return None;
        }
        let leads = Leads::Found(Numbered { numbers, key, end, refusal });
        if !self.leads.iter().any(|it| it.0 == chain) {
            self.leads.push((chain.to_owned(), leads));
        }
        Some(if decided.admitted { Then::Allow(decided.id) } else { Then::Deny(decided.id) })
    }
}

fn opaque() -> Then {
    Then::Opaque("verdict".into())
}

/// An address looked up among the networks that the machine is on.
fn on_link(field: Field, set: &str, is: bool) -> Test {
    let (end, family) = match field {
        Field::Source(family) => (End::Source, family),
        Field::Destination(family) => (End::Destination, family),
        _ => return Test::Opaque("lookup".into()),
    };
    if links(family) == set { Test::OnLink(end, family, is) } else { Test::Opaque("lookup".into()) }
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
        Verdict::Goto(_) | Verdict::Return | Verdict::Other(..) => Action::Opaque("verdict".into()),
    }
}
