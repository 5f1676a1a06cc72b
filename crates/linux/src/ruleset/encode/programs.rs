//! Whose a socket is: lists of programs to comparisons with the marks of sockets.

use super::super::marks::Marks;
use super::super::names::{TABLE, user_data};
use super::encoder::Encoder;
use super::expressions::compare;
use super::sets::size_of_set;
use crate::LinuxError;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{ProgramRule, Test};
use tipstaff_wire::nf_tables::{
    self as nf, Compare, Element, Expression, SocketKey, registers, set_flags,
};

impl Encoder<'_> {
    /// Compares the mark of the packet's socket with the numbers of programs.
    pub(super) fn owners(
        &mut self,
        names: &[String],
        test: &Test,
        rule: &ProgramRule,
        out: &mut Vec<Expression>,
    ) -> Result<(), LinuxError> {
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
                let made = self.new_list(names, test, rule)?;
                self.known.insert(test.clone(), made.clone());
                made
            }
        };
        match self.marks.only(names) {
            // Quicker than to look it up; the set says which program it is.
            Some(number) => {
                let bits = Marks::bits(self.marks.mask, number);
                out.push(compare(Compare::Equal, bits.to_ne_bytes().to_vec()));
            }
            None => {
                let flags = 0;
                out.push(Expression::Lookup { register, set, id, flags, to_verdict: false });
            }
        }
        Ok(())
    }

    /// A list of programs, as a set of the numbers in marks.
    fn new_list(
        &mut self,
        names: &[String],
        test: &Test,
        rule: &ProgramRule,
    ) -> Result<(String, u32), LinuxError> {
        let entries = self.marks.lists.get(names).filter(|_| self.marks.mask != 0);
        let entries = entries.ok_or_else(|| LinuxError::RuleRefused {
            rule: rule.id.clone().unwrap_or_else(|| RuleId::rule("")),
            reason: format!("nothing marks the sockets of `{}`", names.join("`, `")).into(),
        })?;
        let elements: Vec<Element> = entries
            .iter()
            .map(|entry| {
                let bits = Marks::bits(self.marks.mask, entry.number);
                Element {
                    user_data: entry.text().as_deref().map(user_data).unwrap_or_default(),
                    ..Element::key(bits.to_ne_bytes().to_vec())
                }
            })
            .collect();
        self.sets += 1;
        let set = nf::Set {
            table: TABLE.into(),
            name: self.by_content("programs", test),
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
}
