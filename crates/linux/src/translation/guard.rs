//! What a rule surely asks of a packet before it does anything: most rules are about one port, and are passed over by that.

use super::traveller::Traveller;
use tipstaff_wire::nf_tables::{Base, Compare, Expression, MetaKey, Rule};

/// What a rule asks for; nothing, where it is not that simple.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Guard {
    protocol: Option<u8>,
    ports: Option<(u16, u16)>,
}

/// What was loaded last.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Loaded {
    Protocol(u32),
    Port(u32),
    Other,
}

impl Guard {
    /// That of a rule.
    pub(super) fn of(rule: &Rule) -> Self {
        let mut guard = Self::default();
        let mut loaded = Loaded::Other;
        for expression in &rule.expressions {
            match expression {
                Expression::Meta { register, key: MetaKey::Protocol } => {
                    loaded = Loaded::Protocol(*register);
                }
                Expression::Payload { register, base: Base::Transport, offset: 2, length: 2 } => {
                    loaded = Loaded::Port(*register);
                }
                Expression::Cmp { register, op: Compare::Equal, data } => {
                    match (loaded, &data[..]) {
                        (Loaded::Protocol(of), [protocol]) if of == *register => {
                            guard.protocol = Some(*protocol);
                        }
                        (Loaded::Port(of), [high, low]) if of == *register => {
                            let port = u16::from_be_bytes([*high, *low]);
                            guard.ports = Some((port, port));
                        }
                        _ => {}
                    }
                }
                Expression::Cmp { .. } => {}
                Expression::Meta { .. } | Expression::Payload { .. } | Expression::Fib { .. } => {
                    loaded = Loaded::Other;
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
            || self.ports.zip(port).is_some_and(|(it, port)| !(it.0..=it.1).contains(&port))
    }
}
