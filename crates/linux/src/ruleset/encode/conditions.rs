//! The tests of rules.

use super::super::keys;
use super::super::moment::before;
use super::super::names::{AS_IT_BEGAN, state_bit};
use super::super::values::Key as Value;
use super::encoder::Encoder;
use super::expressions::{compare, interface, meta, payload};
use super::relations::own;
use crate::LinuxError;
use tipstaff_core::program::{ProgramRule, Test};
use tipstaff_core::space::{AddressSet, Family, RangeSet, StateSet};
use tipstaff_wire::nf_tables::{
    Base, Compare, Expression, FAMILY_IPV4, FAMILY_IPV6, MetaKey, ct, registers,
};

impl Encoder<'_> {
    /// What a test needs, its sets included.
    pub(super) fn test(
        &mut self,
        test: &Test,
        rule: &ProgramRule,
        out: &mut Vec<Expression>,
    ) -> Result<(), LinuxError> {
        match test {
            Test::InInterface(test) => interface(MetaKey::InInterfaceName, test, out),
            Test::OutInterface(test) => interface(MetaKey::OutInterfaceName, test, out),
            Test::State(states) => state(*states, out),
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
            Test::Published(ports) => {
                led(out);
                self.one_of(ports, test, rule, out);
            }
            Test::Own(end, is) => own(*end, *is, out),
            Test::OnLink(end, family, is) => self.on_link((*end, *family, *is), out)?,
            Test::Before(time) => out.extend(before(*time)),
            Test::Program(names) | Test::User(names) => self.owners(names, test, rule, out)?,
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
                        let made = self.new_set(values, test, rule);
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

fn state_mask(states: StateSet) -> u32 {
    states.iter().fold(0, |mask, state| mask | state_bit(state))
}

fn version_of(set: &AddressSet) -> Family {
    if set.has(Family::V4) { Family::V4 } else { Family::V6 }
}

/// Goes on with what was led here, as its connection was made; then loads the port that was asked for.
fn led(out: &mut Vec<Expression>) {
    let register = registers::FIRST;
    out.push(Expression::Ct { key: ct::STATUS, register });
    out.push(Expression::Bitwise {
        source: register,
        destination: register,
        length: 4,
        mask: ct::LED.to_ne_bytes().to_vec(),
        xor: vec![0; 4],
    });
    out.push(compare(Compare::NotEqual, vec![0; 4]));
    out.push(Expression::Ct { key: ct::DIRECTION, register });
    out.push(compare(Compare::Equal, vec![AS_IT_BEGAN]));
    let (key, direction) = (ct::DESTINATION_PORT, AS_IT_BEGAN);
    out.push(Expression::CtEnds { key, direction, register });
}

fn state(states: StateSet, out: &mut Vec<Expression>) {
    let mask = state_mask(states).to_ne_bytes().to_vec();
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
