//! What an address is to this machine: one of its own, or on a link.

use super::super::keys;
use super::super::names::{NOT_IN, TABLE, links};
use super::encoder::Encoder;
use super::expressions::{compare, payload};
use super::sets::ranges;
use crate::LinuxError;
use tipstaff_core::program::{End, RuleProgram};
use tipstaff_core::space::Family;
use tipstaff_wire::nf_tables::{
    self as nf, Base, Compare, Element, Expression, fib, registers, set_flags,
};

impl Encoder<'_> {
    /// The networks that the machine is on, if a rule asks for them: one set for each IP version.
    pub(super) fn links(&mut self, program: &RuleProgram) {
        for family in program.asks_for_links() {
            self.sets += 1;
            let set = nf::Set {
                table: TABLE.into(),
                name: links(family).into(),
                flags: set_flags::CONSTANT | set_flags::INTERVAL,
                key_length: keys::source(family).1,
                id: self.sets,
                ..nf::Set::default()
            };
            let elements: Vec<Element> = match family {
                Family::V4 => ranges(program.on_link.v4.ranges()),
                Family::V6 => ranges(program.on_link.v6.ranges()),
            };
            self.batch.new_set(&set);
            if !elements.is_empty() {
                let message = self.batch.new_elements(&set, &elements);
                self.ledger.note(message, None);
            }
            self.links.insert(family, set.id);
        }
    }

    /// Whether an address is in one of those networks.
    pub(super) fn on_link(
        &self,
        (end, family, is): (End, Family, bool),
        out: &mut Vec<Expression>,
    ) -> Result<(), LinuxError> {
        let (offset, length) = match end {
            End::Source => keys::source(family),
            End::Destination => keys::destination(family),
        };
        let id = self.links.get(&family).copied().ok_or_else(|| LinuxError::Refused {
            doing: "tell the kernel who is on a link".into(),
            reason: "no set was made for it".into(),
        })?;
        out.push(payload(Base::Network, offset, length));
        out.push(Expression::Lookup {
            register: registers::FIRST,
            set: links(family).into(),
            id,
            flags: if is { 0 } else { NOT_IN },
            to_verdict: false,
        });
        Ok(())
    }
}

/// Whether an address is one of this machine's own, whatever it has at the moment.
pub(super) fn own(end: End, is: bool, out: &mut Vec<Expression>) {
    let flags = match end {
        End::Source => fib::SOURCE,
        End::Destination => fib::DESTINATION,
    };
    let op = if is { Compare::Equal } else { Compare::NotEqual };
    out.push(Expression::Fib { register: registers::FIRST, flags });
    out.push(compare(op, fib::LOCAL.to_ne_bytes().to_vec()));
}
