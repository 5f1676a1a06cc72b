//! What a rule surely asks of a packet before it does anything: most rules are about one port, and are passed over by that.

use super::traveller::Traveller;
use super::what::{Loaded, What};
use tipstaff_wire::nf_tables::{Base, Compare, Expression, MetaKey, Rule, registers};

/// What a rule asks for; nothing, where it is not that simple.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Guard {
    protocol: Option<u8>,
    port: Option<u16>,
    /// Whether it looks at single bits of what packets stand for others by.
    pub odd: bool,
}

/// What was loaded last.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Last {
    Protocol(u32),
    Port(u32),
    Other,
}

impl Guard {
    /// That of a rule.
    pub(super) fn of(rule: &Rule) -> Self {
        let mut guard = Self { odd: is_odd(rule), ..Self::default() };
        let mut last = Last::Other;
        for expression in &rule.expressions {
            match expression {
                Expression::Meta { register, key: MetaKey::Protocol } => {
                    last = Last::Protocol(*register);
                }
                Expression::Payload { register, base: Base::Transport, offset: 2, length: 2 } => {
                    last = Last::Port(*register);
                }
                Expression::Cmp { register, op: Compare::Equal, data } => match (last, &data[..]) {
                    (Last::Protocol(of), [protocol]) if of == *register => {
                        guard.protocol = Some(*protocol);
                    }
                    (Last::Port(of), [high, low]) if of == *register => {
                        guard.port = Some(u16::from_be_bytes([*high, *low]));
                    }
                    _ => {}
                },
                Expression::Cmp { .. } => {}
                Expression::Meta { .. } | Expression::Payload { .. } | Expression::Fib { .. } => {
                    last = Last::Other;
                }
                // Whatever comes behind may have been preceded by something that was done.
                _ => break,
            }
        }
        guard
    }

    /// Whether the rule surely does nothing to a packet.
    pub(super) fn excludes(&self, packet: &Traveller) -> bool {
        let port = packet.ports.map(|it| it.1);
        self.protocol.is_some_and(|it| it != packet.protocol)
            || self.port.zip(port).is_some_and(|(it, port)| it != port)
    }
}

fn is_odd(rule: &Rule) -> bool {
    let mut loaded = Loaded::default();
    rule.expressions.iter().any(|expression| {
        loaded.note(expression);
        match expression {
            Expression::Payload { register, .. }
            | Expression::Bitwise { destination: register, .. } => {
                loaded.at(registers::word(*register)).0 == What::Bits
            }
            _ => false,
        }
    })
}
