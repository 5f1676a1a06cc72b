//! A rule program to one batch of netlink messages.

use super::values::KeyRanges;
use super::{Ledger, TABLE};
use tipstaff_core::plan::InterfaceTest;
use tipstaff_core::policy::Rate;
use tipstaff_core::program::{Action, Chain, ProgramRule, RuleProgram, Test};
use tipstaff_core::space::{ConnectionState, Direction, Family, StateSet};
use tipstaff_wire::nf_tables::{
    self as nf, Base, Batch, Compare, Element, Expression, FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6,
    Hook, Limit, MetaKey, PROHIBITED, RejectKind, STATE_BITS, Verdict, ct, registers, set_flags,
};

/// Where our chains stand among those of others at the same hook: in the middle.
const PRIORITY: i32 = 0;
const FILTER: &str = "filter";
/// How many senders a rate per source can tell apart at a time.
const SENDERS: u32 = 65_536;
/// Senders are remembered at least this long, in milliseconds, so that the set is not made anew
/// all the time.
const SHORTEST_MEMORY: u64 = 10_000;
/// The kernel counts in nanoseconds; this is some thirty years.
const LONGEST_MEMORY: u64 = 1_000_000_000_000;
/// Interface names are compared whole, padded with NUL (`IFNAMSIZ`).
pub(super) const INTERFACE_NAME: usize = 16;
/// The first byte of user data: the version of what follows.
pub(super) const USER_DATA_VERSION: u8 = 1;

/// The batch that puts `program` in place of whatever our table holds, its messages numbered
/// from `sequence` on, and the ledger of which message serves which decision.
///
/// The table is made (in case it is not there), deleted, and made anew: since the kernel applies
/// a batch at once or not at all, there is no moment without rules.
#[must_use]
pub fn encode(program: &RuleProgram, host: &str, sequence: u32) -> (Batch, Ledger) {
    let mut encoder = Encoder { batch: Batch::begin(sequence), ledger: Ledger::default(), sets: 0 };
    let table =
        nf::Table { name: TABLE.into(), user_data: user_data(host), ..nf::Table::default() };
    encoder.batch.new_table(&table);
    encoder.batch.delete_table(TABLE);
    encoder.batch.new_table(&table);
    for chain in &program.chains {
        encoder.ledger.preamble = encoder.chain(chain);
    }
    for chain in &program.chains {
        for rule in &chain.rules {
            encoder.rule(&chain.name, rule);
        }
    }
    (encoder.batch, encoder.ledger)
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

struct Encoder {
    batch: Batch,
    ledger: Ledger,
    /// How many sets have been made.
    sets: u32,
}

impl Encoder {
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

    fn rule(&mut self, chain: &str, rule: &ProgramRule) {
        let mut expressions = Vec::new();
        for test in &rule.tests {
            self.test(test, rule, &mut expressions);
        }
        match &rule.action {
            Action::AllowWithin(rate) if rate.per_source => {
                self.meter(*rate, rule, &mut expressions);
            }
            other => action(other, &mut expressions),
        }
        let message = self.batch.new_rule(&nf::Rule {
            table: TABLE.into(),
            chain: chain.into(),
            expressions,
            user_data: user_data(&rule.id.to_string()),
            ..nf::Rule::default()
        });
        self.ledger.note(message, &rule.id);
    }

    fn test(&mut self, test: &Test, rule: &ProgramRule, out: &mut Vec<Expression>) {
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
                self.one_of(&KeyRanges::of(numbers), rule, out);
            }
            // Offsets: RFC 791 section 3.1 and RFC 8200 section 3.
            Test::Source(set) => {
                let (offset, length) = if set.has(Family::V4) { (12, 4) } else { (8, 16) };
                out.push(payload(Base::Network, offset, length));
                self.one_of(&KeyRanges::of_addresses(set), rule, out);
            }
            Test::Destination(set) => {
                let (offset, length) = if set.has(Family::V4) { (16, 4) } else { (24, 16) };
                out.push(payload(Base::Network, offset, length));
                self.one_of(&KeyRanges::of_addresses(set), rule, out);
            }
            Test::IcmpType(types) => {
                out.push(payload(Base::Transport, 0, 1));
                self.one_of(&KeyRanges::of(types), rule, out);
            }
            Test::SourcePort(ports) => {
                out.push(payload(Base::Transport, 0, 2));
                self.one_of(&KeyRanges::of(ports), rule, out);
            }
            Test::DestinationPort(ports) => {
                out.push(payload(Base::Transport, 2, 2));
                self.one_of(&KeyRanges::of(ports), rule, out);
            }
            Test::Opaque(_) => unreachable!("only decoding makes opaque tests"),
        }
    }

    /// Compares the register with ranges: one value, one range, or a set made for the purpose.
    fn one_of(&mut self, keys: &KeyRanges, rule: &ProgramRule, out: &mut Vec<Expression>) {
        if let [(first, last)] = &keys.ranges[..] {
            out.push(if first == last {
                compare(Compare::Equal, first.clone())
            } else {
                Expression::Range {
                    register: registers::FIRST,
                    op: Compare::Equal,
                    from: first.clone(),
                    to: last.clone(),
                }
            });
            return;
        }
        let name = self.new_set(keys, rule);
        out.push(Expression::Lookup {
            register: registers::FIRST,
            set: name,
            id: self.sets,
            flags: 0,
        });
    }

    /// Lets senders pass while each keeps the rate. The set is bounded: senders beyond what it
    /// holds do not match, and so meet the denial behind this rule.
    fn meter(&mut self, rate: Rate, rule: &ProgramRule, out: &mut Vec<Expression>) {
        let v6 = rule.tests.contains(&Test::Family(Family::V6));
        // The first 64 bits of an IPv6 address are its network.
        let (offset, length) = if v6 { (8, 8) } else { (12, 4) };
        self.sets += 1;
        let set = nf::Set {
            table: TABLE.into(),
            name: format!("set-{}", self.sets),
            flags: set_flags::DYNAMIC | set_flags::TIMEOUT,
            key_length: length,
            id: self.sets,
            size: Some(SENDERS),
            timeout: Some(refill_time(rate)),
            ..nf::Set::default()
        };
        let message = self.batch.new_set(&set);
        self.ledger.note(message, &rule.id);
        out.push(payload(Base::Network, offset, length));
        out.push(Expression::Meter {
            register: registers::FIRST,
            set: set.name,
            id: set.id,
            limit: limit(rate),
        });
        out.push(Expression::Counter { packets: 0, bytes: 0 });
        out.push(Expression::Immediate(Verdict::Accept));
    }

    fn new_set(&mut self, keys: &KeyRanges, rule: &ProgramRule) -> String {
        self.sets += 1;
        let points = keys.are_points();
        let set = nf::Set {
            table: TABLE.into(),
            name: format!("set-{}", self.sets),
            flags: set_flags::CONSTANT | if points { 0 } else { set_flags::INTERVAL },
            key_length: keys.length,
            id: self.sets,
            ..nf::Set::default()
        };
        let mut elements = Vec::with_capacity(keys.ranges.len() * 2);
        for ((first, _), end) in keys.ranges.iter().zip(&keys.ends) {
            elements.push(Element { key: first.clone(), ends_interval: false });
            if let (false, Some(end)) = (points, end) {
                elements.push(Element { key: end.clone(), ends_interval: true });
            }
        }
        self.batch.new_set(&set);
        let message = self.batch.new_elements(&set, &elements);
        self.ledger.note(message, &rule.id);
        set.name
    }
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

/// The time in milliseconds after which an idle sender's bucket is full again, so that it can be
/// forgotten without giving it more than the rate.
fn refill_time(rate: Rate) -> u64 {
    let time = u64::from(rate.burst) * u64::from(rate.seconds) * 1_000 / u64::from(rate.count);
    (time + 1_000).clamp(SHORTEST_MEMORY, LONGEST_MEMORY)
}

/// Limiter, counter, verdict. A jump is not counted: what it leads to is.
fn action(action: &Action, out: &mut Vec<Expression>) {
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
        Action::AllowWithin(rate) => {
            let limit = Limit {
                rate: rate.count.into(),
                unit: rate.seconds.into(),
                burst: rate.burst,
                kind: 0,
                flags: 0,
            };
            out.extend([Expression::Limit(limit), counter, Expression::Immediate(Verdict::Accept)]);
        }
        Action::Jump(chain) => {
            out.push(Expression::Immediate(Verdict::Jump(chain.clone())));
        }
        Action::Opaque(_) => unreachable!("only decoding makes opaque actions"),
    }
}
