//! Single expressions of rules, and what a decision does.

use super::super::names::{LOG_GROUP, LOGGED_BYTES, interface_key};
use tipstaff_core::plan::InterfaceTest;
use tipstaff_core::program::Action;
use tipstaff_wire::nf_tables::{
    Base, Compare, Expression, MetaKey, PROHIBITED, RejectKind, Verdict, registers,
};

pub(super) fn meta(key: MetaKey) -> Expression {
    Expression::Meta { key, register: registers::FIRST }
}

pub(super) fn payload(base: Base, offset: u32, length: u32) -> Expression {
    Expression::Payload { base, offset, length, register: registers::FIRST }
}

pub(super) fn compare(op: Compare, data: Vec<u8>) -> Expression {
    Expression::Cmp { register: registers::FIRST, op, data }
}

pub(super) fn interface(key: MetaKey, test: &InterfaceTest, out: &mut Vec<Expression>) {
    let (op, name) = match test {
        InterfaceTest::Any => return,
        InterfaceTest::Is(name) => (Compare::Equal, name),
        InterfaceTest::IsNot(name) => (Compare::NotEqual, name),
    };
    out.push(meta(key));
    out.push(compare(op, interface_key(name)));
}

/// Counter and verdict. A jump is not counted: what it leads to is.
pub(super) fn action(action: &Action, name: &str, out: &mut Vec<Expression>) {
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
        Action::Log(_) => out.push(Expression::Log {
            group: LOG_GROUP,
            snap_length: LOGGED_BYTES,
            threshold: 0,
            prefix: name.into(),
        }),
        Action::Jump(chain) => {
            out.push(Expression::Immediate(Verdict::Jump(chain.clone())));
        }
        Action::Choose(_)
        | Action::AllowWithin(_)
        | Action::AllowEach(..)
        | Action::AllowCrowded(..) => unreachable!("what needs a set or a limiter comes with it"),
        Action::Opaque(_) => unreachable!("only decoding makes opaque actions"),
    }
}
