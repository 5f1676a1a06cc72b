//! A rule program to one batch of netlink messages.

mod sets;

pub use sets::{CROWDS, NOT_IN};

use super::read::{Count, Tally, direction_of};
use super::values::Key as Value;
use super::{BY_MARK, Ledger, Marks, TABLE, TO_LISTENER, keys, marks, reopen};
use crate::LinuxError;
use std::collections::HashMap;
use tipstaff_core::plan::{InterfaceTest, RuleId};
use tipstaff_core::policy::Rate;
use tipstaff_core::program::{Action, Chain, ProgramRule, RuleProgram, Test};
use tipstaff_core::space::{AddressSet, ConnectionState, Direction, Family, RangeSet, StateSet};
use tipstaff_wire::nf_tables::{
    self as nf, Base, Batch, Compare, Expression, FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6, Hook,
    Limit, MetaKey, PROHIBITED, RejectKind, STATE_BITS, SocketKey, Verdict, ct, registers,
};

/// Where our chains stand among those of others at the same hook: in the middle.
const PRIORITY: i32 = 0;
const FILTER: &str = "filter";
/// The group to which packets are reported that a rule is to log.
pub const LOG_GROUP: u16 = 8_484;
/// So many bytes of a reported packet: its headers, and a little of what they carry.
const LOGGED_BYTES: u32 = 256;
/// Interface names are compared whole, padded with NUL (`IFNAMSIZ`).
pub(super) const INTERFACE_NAME: usize = 16;
/// The first byte of user data: the version of what follows.
pub(super) const USER_DATA_VERSION: u8 = 1;

/// The batch that puts `program` in place of whatever our table holds, its messages numbered
/// from `sequence` on, and the ledger of which message serves which decision.
///
/// The table is made (in case it is not there), deleted, and made anew: since the kernel applies
/// a batch at once or not at all, there is no moment without rules.
///
/// # Errors
/// [`LinuxError::RuleRefused`] for a rule that the kernel cannot be told yet.
pub fn encode(
    program: &RuleProgram,
    host: &str,
    sequence: u32,
) -> Result<(Batch, Ledger), LinuxError> {
    encode_into(Batch::begin(sequence), program, host, &marks::alone(program)?, &[])
}

/// Like [`encode`], into a batch that has been begun.
pub(super) fn encode_into(
    batch: Batch,
    program: &RuleProgram,
    host: &str,
    marks: &Marks,
    carried: &[Tally],
) -> Result<(Batch, Ledger), LinuxError> {
    let mut encoder = Encoder {
        carried: Carried::of(carried),
        limiter: false,
        direction: None,
        batch,
        ledger: Ledger::default(),
        sets: 0,
        expressions: Vec::new(),
        told_apart: HashMap::new(),
        known: HashMap::new(),
        marks,
    };
    let table =
        nf::Table { name: TABLE.into(), user_data: user_data(host), ..nf::Table::default() };
    encoder.batch.new_table(&table);
    encoder.batch.delete_table(TABLE);
    encoder.batch.new_table(&table);
    for chain in &program.chains {
        encoder.ledger.preamble = encoder.chain(chain);
    }
    encoder.reopened(&program.reopened)?;
    for chain in &program.chains {
        encoder.direction = direction_of(&chain.name);
        encoder.limiter =
            chain.rules.iter().any(|rule| matches!(rule.action, Action::AllowWithin(_)));
        for rule in &chain.rules {
            encoder.rule(&chain.name, rule)?;
        }
    }
    Ok((encoder.batch, encoder.ledger))
}

fn user_data(text: &str) -> Vec<u8> {
    let mut data = vec![USER_DATA_VERSION];
    data.extend_from_slice(text.as_bytes());
    data
}

/// The hook at which packets of a direction can be decided.
pub(super) fn hook_number(direction: Direction) -> u32 {
    match direction {
        Direction::Inbound => Hook::LOCAL_IN,
        Direction::Outbound => Hook::LOCAL_OUT,
        Direction::Forwarded => Hook::FORWARD,
    }
}

/// The kernel's bits for a set of states, in the order of [`ConnectionState::ALL`]'s meaning.
pub(super) fn state_bit(state: ConnectionState) -> u32 {
    let [invalid, established, related, new, untracked] = STATE_BITS;
    match state {
        ConnectionState::New => new,
        ConnectionState::Established => established,
        ConnectionState::Related => related,
        ConnectionState::Invalid => invalid,
        ConnectionState::Untracked => untracked,
    }
}

fn state_mask(states: StateSet) -> u32 {
    states.iter().fold(0, |mask, state| mask | state_bit(state))
}

/// An interface name as the kernel compares it.
pub(super) fn interface_key(name: &str) -> Vec<u8> {
    let mut key = name.as_bytes().to_vec();
    key.resize(INTERFACE_NAME, 0);
    key
}

/// What decisions have counted so far and are to go on from.
#[derive(Default)]
struct Carried {
    taken: HashMap<(Direction, RuleId), Count>,
    excess: HashMap<(Direction, RuleId), Count>,
    crowded: HashMap<(Direction, RuleId), Count>,
}

impl Carried {
    fn of(tallies: &[Tally]) -> Self {
        let key = |it: &Tally| (it.direction, it.id.clone());
        let counts = |it: &Tally| it.taken != Count::default();
        Self {
            taken: tallies.iter().filter(|it| counts(it)).map(|it| (key(it), it.taken)).collect(),
            excess: tallies.iter().filter_map(|it| Some((key(it), it.excess?))).collect(),
            crowded: tallies.iter().filter_map(|it| Some((key(it), it.crowded?))).collect(),
        }
    }

    /// What the first counter of a decision is to begin with. Nothing is given twice.
    fn take(&mut self, direction: Option<Direction>, id: &RuleId, part: Part) -> Option<Count> {
        let from = match part {
            Part::Taken => &mut self.taken,
            Part::Excess => &mut self.excess,
            Part::Crowded => &mut self.crowded,
        };
        if from.is_empty() {
            return None;
        }
        from.remove(&(direction?, id.clone()))
    }
}

/// What a counter counts.
#[derive(Clone, Copy)]
enum Part {
    Taken,
    Excess,
    Crowded,
}

struct Encoder<'a> {
    carried: Carried,
    /// Whether the chain that is being written has a limiter.
    limiter: bool,
    /// The direction of the packets that come to it.
    direction: Option<Direction>,
    batch: Batch,
    ledger: Ledger,
    /// How many sets have been made.
    sets: u32,
    /// Room for the expressions of one rule, used again for the next.
    expressions: Vec<Expression>,
    /// The last set of senders that are told apart by so many bytes, with its number.
    told_apart: HashMap<u32, (String, u32)>,
    /// Sets that rules can share, with their names and numbers.
    known: HashMap<Test, (String, u32)>,
    marks: &'a Marks,
}

impl Encoder<'_> {
    fn chain(&mut self, chain: &Chain) -> u32 {
        let base = chain.base;
        self.batch.new_chain(&nf::Chain {
            table: TABLE.into(),
            name: chain.name.clone(),
            kind: base.map(|_| FILTER.into()),
            hook: base.map(|base| Hook { number: hook_number(base.direction), priority: PRIORITY }),
            policy: base.map(|base| u32::from(base.passes)),
            family: FAMILY_INET,
        })
    }

    /// Has what remains of old connections to these ports give way to the listener.
    fn reopened(&mut self, ports: &RangeSet<u16>) -> Result<(), LinuxError> {
        if ports.is_empty() {
            return Ok(());
        }
        self.ledger.preamble = self.batch.new_chain(&reopen::chain());
        for family in Family::BOTH {
            let rule = reopen::first_steps(family, ports);
            let mut expressions = Vec::new();
            for test in &rule.tests {
                self.test(test, &rule, &mut expressions)?;
            }
            expressions.extend(reopen::last_steps(family));
            let message = self.batch.new_rule(&nf::Rule {
                table: TABLE.into(),
                chain: reopen::CHAIN.into(),
                user_data: user_data(""),
                expressions,
                ..nf::Rule::default()
            });
            self.ledger.note(message, None);
            self.ledger.by_socket.insert(message, TO_LISTENER);
        }
        Ok(())
    }

    fn rule(&mut self, chain: &str, rule: &ProgramRule) -> Result<(), LinuxError> {
        let mut expressions = std::mem::take(&mut self.expressions);
        for test in &rule.tests {
            self.test(test, rule, &mut expressions)?;
        }
        let name = rule.id.as_ref().map(RuleId::to_string).unwrap_or_default();
        match &rule.action {
            Action::AllowWithin(rate) if rate.per_source => {
                self.meter(*rate, rule, &mut expressions);
            }
            Action::AllowCrowded(rate) => self.crowd(*rate, rule, &mut expressions),
            Action::Choose(lookup) => self.lookup(lookup, &mut expressions),
            other => action(other, &name, &mut expressions),
        }
        let counter = expressions.iter_mut().find_map(|it| match it {
            Expression::Counter { packets, bytes } => Some((packets, bytes)),
            _ => None,
        });
        let part = match rule.action {
            Action::Deny if self.limiter => Part::Excess,
            Action::AllowCrowded(_) => Part::Crowded,
            _ => Part::Taken,
        };
        if let (Some((packets, bytes)), Some(id)) = (counter, &rule.id)
            && let Some(count) = self.carried.take(self.direction, id, part)
        {
            (*packets, *bytes) = (count.packets, count.bytes);
        }
        let rule_message = nf::Rule {
            table: TABLE.into(),
            chain: chain.into(),
            expressions,
            user_data: user_data(&name),
            ..nf::Rule::default()
        };
        let message = self.batch.new_rule(&rule_message);
        self.ledger.note(message, rule.id.as_ref());
        if rule.tests.iter().any(|it| matches!(it, Test::Program(_))) {
            self.ledger.by_socket.insert(message, BY_MARK);
        }
        self.expressions = rule_message.expressions;
        self.expressions.clear();
        Ok(())
    }

    fn test(
        &mut self,
        test: &Test,
        rule: &ProgramRule,
        out: &mut Vec<Expression>,
    ) -> Result<(), LinuxError> {
        match test {
            Test::InInterface(test) => interface(MetaKey::InInterfaceName, test, out),
            Test::OutInterface(test) => interface(MetaKey::OutInterfaceName, test, out),
            Test::State(states) => {
                let mask = state_mask(*states).to_ne_bytes().to_vec();
                out.push(Expression::Ct { key: ct::STATE, register: registers::FIRST });
                out.push(Expression::Bitwise {
                    source: registers::FIRST,
                    destination: registers::FIRST,
                    length: 4,
                    mask,
                    xor: vec![0; 4],
                });
                out.push(compare(Compare::NotEqual, vec![0; 4]));
            }
            Test::Family(family) => {
                let number = match family {
                    Family::V4 => FAMILY_IPV4,
                    Family::V6 => FAMILY_IPV6,
                };
                out.push(meta(MetaKey::Family));
                out.push(compare(Compare::Equal, vec![number]));
            }
            Test::Protocol(numbers) => {
                out.push(meta(MetaKey::Protocol));
                self.one_of(numbers, test, rule, out);
            }
            Test::Source(set) => {
                let (offset, length) = keys::source(version_of(set));
                out.push(payload(Base::Network, offset, length));
                self.one_address_of(set, test, rule, out);
            }
            Test::Destination(set) => {
                let (offset, length) = keys::destination(version_of(set));
                out.push(payload(Base::Network, offset, length));
                self.one_address_of(set, test, rule, out);
            }
            Test::IcmpType(types) => {
                out.push(payload(Base::Transport, 0, 1));
                self.one_of(types, test, rule, out);
            }
            Test::SourcePort(ports) => {
                out.push(payload(Base::Transport, 0, 2));
                self.one_of(ports, test, rule, out);
            }
            Test::DestinationPort(ports) => {
                out.push(payload(Base::Transport, 2, 2));
                self.one_of(ports, test, rule, out);
            }
            Test::Before(time) => {
                // Before 1970 nothing comes.
                let seconds = u64::try_from(time.seconds()).unwrap_or(0);
                let nanoseconds = seconds.saturating_mul(1_000_000_000);
                out.push(meta(MetaKey::Time));
                out.push(Expression::Order {
                    source: registers::FIRST,
                    destination: registers::FIRST,
                });
                out.push(compare(Compare::Less, nanoseconds.to_be_bytes().to_vec()));
            }
            Test::Program(paths) => {
                let mask = self.marks.mask.to_ne_bytes().to_vec();
                let register = registers::FIRST;
                out.push(Expression::Socket { key: SocketKey::Mark, register });
                out.push(Expression::Bitwise {
                    source: register,
                    destination: register,
                    length: 4,
                    mask,
                    xor: vec![0; 4],
                });
                let (set, id) = match self.known.get(test) {
                    Some(known) => known.clone(),
                    None => {
                        let made = self.new_list(paths, rule)?;
                        self.known.insert(test.clone(), made.clone());
                        made
                    }
                };
                match self.marks.only(paths) {
                    // Quicker than to look it up; the set says which program it is.
                    Some(number) => {
                        let bits = Marks::bits(self.marks.mask, number);
                        out.push(compare(Compare::Equal, bits.to_ne_bytes().to_vec()));
                    }
                    None => {
                        let flags = 0;
                        out.push(Expression::Lookup {
                            register,
                            set,
                            id,
                            flags,
                            to_verdict: false,
                        });
                    }
                }
            }
            Test::Opaque(_) => unreachable!("only decoding makes opaque tests"),
        }
        Ok(())
    }

    /// Compares the register with the set of values that the test names. Rules with the same test
    /// share one set in the kernel.
    fn one_of<T: Value>(
        &mut self,
        values: &RangeSet<T>,
        test: &Test,
        rule: &ProgramRule,
        out: &mut Vec<Expression>,
    ) {
        match values.ranges() {
            [(first, last)] if first == last => {
                out.push(compare(Compare::Equal, first.to_key()));
            }
            [(first, last)] => out.push(Expression::Range {
                register: registers::FIRST,
                op: Compare::Equal,
                from: first.to_key(),
                to: last.to_key(),
            }),
            _ => {
                let (set, id) = match self.known.get(test) {
                    Some(known) => known.clone(),
                    None => {
                        let made = self.new_set(values, rule);
                        self.known.insert(test.clone(), made.clone());
                        made
                    }
                };
                let register = registers::FIRST;
                out.push(Expression::Lookup { register, set, id, flags: 0, to_verdict: false });
            }
        }
    }

    /// Compares the register with the addresses of one IP version.
    fn one_address_of(
        &mut self,
        set: &AddressSet,
        test: &Test,
        rule: &ProgramRule,
        out: &mut Vec<Expression>,
    ) {
        match version_of(set) {
            Family::V4 => self.one_of(&set.v4, test, rule, out),
            Family::V6 => self.one_of(&set.v6, test, rule, out),
        }
    }
}

fn version_of(set: &AddressSet) -> Family {
    if set.has(Family::V4) { Family::V4 } else { Family::V6 }
}

fn meta(key: MetaKey) -> Expression {
    Expression::Meta { key, register: registers::FIRST }
}

fn payload(base: Base, offset: u32, length: u32) -> Expression {
    Expression::Payload { base, offset, length, register: registers::FIRST }
}

fn compare(op: Compare, data: Vec<u8>) -> Expression {
    Expression::Cmp { register: registers::FIRST, op, data }
}

fn interface(key: MetaKey, test: &InterfaceTest, out: &mut Vec<Expression>) {
    let (op, name) = match test {
        InterfaceTest::Any => return,
        InterfaceTest::Is(name) => (Compare::Equal, name),
        InterfaceTest::IsNot(name) => (Compare::NotEqual, name),
    };
    out.push(meta(key));
    out.push(compare(op, interface_key(name)));
}

fn limit(rate: Rate) -> Limit {
    Limit {
        rate: rate.count.into(),
        unit: rate.seconds.into(),
        burst: rate.burst,
        kind: 0,
        flags: 0,
    }
}

/// Limiter, counter, verdict. A jump is not counted: what it leads to is.
fn action(action: &Action, name: &str, out: &mut Vec<Expression>) {
    let counter = Expression::Counter { packets: 0, bytes: 0 };
    match action {
        Action::Allow => out.extend([counter, Expression::Immediate(Verdict::Accept)]),
        Action::Deny => out.extend([counter, Expression::Immediate(Verdict::Drop)]),
        Action::Reset => {
            out.extend([counter, Expression::Reject { kind: RejectKind::TcpReset, code: 0 }]);
        }
        Action::Prohibit => out.extend([
            counter,
            Expression::Reject { kind: RejectKind::Unreachable, code: PROHIBITED },
        ]),
        Action::AllowWithin(rate) => out.extend([
            Expression::Limit(limit(*rate)),
            counter,
            Expression::Immediate(Verdict::Accept),
        ]),
        Action::Log(cap) => {
            out.extend(cap.map(|cap| Expression::Limit(limit(cap))));
            out.push(Expression::Log {
                group: LOG_GROUP,
                snap_length: LOGGED_BYTES,
                threshold: 0,
                prefix: name.into(),
            });
        }
        Action::Jump(chain) => {
            out.push(Expression::Immediate(Verdict::Jump(chain.clone())));
        }
        Action::Choose(_) | Action::AllowCrowded(_) => {
            unreachable!("what is looked up is made with its sets")
        }
        Action::Opaque(_) => unreachable!("only decoding makes opaque actions"),
    }
}
