//! Comparisons with the marks of sockets, back to lists of programs.

use super::super::marks::Marks;
use super::super::owners::{Numbered, is_program};
use super::field::{Field, Registers};
use super::found::{Found, Sets};
use std::collections::BTreeSet;
use tipstaff_core::program::Test;
use tipstaff_wire::nf_tables::{Compare, Expression};

/// The programs that an expression tells from others, if it compares numbers of programs; `marks` learns which
/// number is whose.
pub(super) fn programs(
    expression: &Expression,
    registers: &Registers,
    sets: &Sets,
    marks: &mut Marks,
) -> Option<Test> {
    let (register, found) = match expression {
        // One number is compared with; a list that no rule looks into says whose it is.
        Expression::Cmp { register, op: Compare::Equal, data } => {
            let bits = data.as_slice().try_into().map_or(0, u32::from_ne_bytes);
            (register, sets.alone(bits))
        }
        Expression::Lookup { register, set, flags: 0, to_verdict: false, .. } => {
            (register, sets.get(set))
        }
        _ => return None,
    };
    let by_mark = match registers.get(*register) {
        Field::ProgramBits(mask) => Some(mask),
        _ => None,
    };
    let (mask, entries) = match (by_mark, found) {
        (Some(mask), Some(Found::Programs(entries))) => (mask, entries),
        (Some(_), _) if matches!(expression, Expression::Cmp { .. }) => {
            return Some(Test::Opaque("cmp".into()));
        }
        // A mark compared with anything else, and anything else with a list of programs.
        (Some(_), _) => return Some(Test::Opaque("lookup".into())),
        (None, Some(Found::Programs(_))) if matches!(expression, Expression::Lookup { .. }) => {
            return Some(Test::Opaque("lookup".into()));
        }
        (None, _) => return None,
    };
    let entry = |(bits, text): &(u32, Option<String>)| {
        Numbered::read(Marks::number_in(mask, *bits), text.as_deref())
    };
    let entries: BTreeSet<Numbered> = entries.iter().map(entry).collect();
    let names: BTreeSet<String> = entries.iter().filter_map(|it| it.name.clone()).collect();
    let names: Vec<String> = names.into_iter().collect();
    marks.mask = mask;
    marks.lists.insert(names.clone(), entries);
    Some(match names.first() {
        Some(first) if is_program(first) => Test::Program(names),
        _ => Test::User(names),
    })
}
