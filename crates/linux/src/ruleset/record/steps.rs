//! The rules that remember a packet.

use super::super::names::state_bit;
use super::form::Form;
use super::layout::{
    ADDRESS, CALLERS, CROWDED, DECISION, FIRST, GROUP, GROUP_KEY, KIND, MOST, NEW_A_SECOND, OF_ONE,
    PORT, PROTOCOL, Place, SEVERAL, SEVERAL_OF_MANY, Steps,
};
use tipstaff_core::program::End;
use tipstaff_core::space::ConnectionState;
use tipstaff_wire::nf_tables::{Compare, Expression, Limit, MetaKey, ct};

/// How the packets of a chain are remembered.
pub(super) struct Memory {
    /// The end that is remembered.
    pub end: End,
    pub form: Form,
    /// What puts the decision's number into its register.
    pub decision: Steps,
    pub place: Place,
    /// What happens to the packet.
    pub then: Expression,
}

/// So much of an IPv6 address is kept; of an IPv4 address, all.
#[derive(Clone, Copy)]
enum Keep {
    Network64,
    Network48,
}

impl Memory {
    /// The rules. Each breaks off where it is for others, or where there is no room; the last one counts what
    /// found none.
    pub(super) fn rules(&self) -> Vec<Steps> {
        let mut exactly = self.who();
        exactly.extend(self.form.what());
        let several = self.together(SEVERAL, Keep::Network64);
        vec![
            self.known(exactly.clone()),
            self.not_so_fast(),
            self.unknown(exactly, Some(0)),
            self.known(several.clone()),
            self.unknown(several, Some(1)),
            self.unknown(self.together(SEVERAL_OF_MANY, Keep::Network48), None),
            vec![counter(), self.then.clone()],
        ]
    }

    fn who(&self) -> Steps {
        let mut steps = self.decision.clone();
        steps.extend(self.form.who(self.end));
        steps
    }

    /// Who it is, for whatever: several things, or several addresses of one network.
    fn together(&self, mark: [u8; 4], keep: Keep) -> Steps {
        let mut steps = self.who();
        let mut mask = vec![0; 16];
        let kept = match keep {
            Keep::Network64 => 8,
            Keep::Network48 => 6,
        };
        mask[..kept].fill(255);
        steps.extend([
            Expression::Bitwise {
                source: ADDRESS,
                destination: ADDRESS,
                length: 16,
                mask,
                xor: vec![0; 16],
            },
            Expression::Load { register: PROTOCOL, data: mark.to_vec() },
            Expression::Load { register: PORT, data: vec![0; 4] },
        ]);
        steps
    }

    /// What is known is counted, and its time renewed. To find an element counts it, and to renew it counts it
    /// once more: see [`super::callers`].
    fn known(&self, mut steps: Steps) -> Steps {
        steps.push(Expression::Lookup {
            register: KIND,
            set: CALLERS.into(),
            id: self.place.callers,
            flags: 0,
            to_verdict: false,
        });
        steps.push(self.counted());
        steps.push(self.then.clone());
        steps
    }

    /// What is new is counted, if there is room; with a number, only while its sender, or its IPv6 network of
    /// 48 bits, has had less than its share under that number.
    fn unknown(&self, mut steps: Steps, share: Option<u8>) -> Steps {
        if let Some(number) = share {
            let mut xor = vec![0; 8];
            xor[7] = number;
            steps.push(Expression::Bitwise {
                source: ADDRESS,
                destination: GROUP,
                length: GROUP_KEY,
                mask: vec![255, 255, 255, 255, 255, 255, 0, 0],
                xor,
            });
            // Never filled again: an element is forgotten when nothing new has come for as long as is kept.
            let limit = Limit {
                rate: OF_ONE.into(),
                unit: 1_000_000_000,
                burst: OF_ONE,
                kind: 0,
                flags: 0,
            };
            steps.push(Expression::Dynset {
                register: GROUP,
                set: CROWDED.into(),
                id: self.place.crowded,
                limit,
            });
        }
        let id = self.place.first;
        steps.push(Expression::DynsetAdds { register: KIND, set: FIRST.into(), id });
        steps.push(self.counted());
        steps.push(self.then.clone());
        steps
    }

    fn counted(&self) -> Expression {
        let id = self.place.callers;
        Expression::DynsetCounts { register: KIND, set: CALLERS.into(), id }
    }

    /// Too many new ones in too short a time are counted, and no more.
    fn not_so_fast(&self) -> Steps {
        let over = 1;
        let burst = u32::try_from(MOST).unwrap_or(u32::MAX);
        let limit = Limit { rate: NEW_A_SECOND, unit: 1, burst, kind: 0, flags: over };
        vec![Expression::Limit(limit), counter(), self.then.clone()]
    }
}

/// What does not begin a connection takes another way.
pub(super) fn begins_nothing(other: Expression) -> Steps {
    let new = state_bit(ConnectionState::New);
    vec![
        Expression::Ct { key: ct::STATE, register: KIND },
        Expression::Bitwise {
            source: KIND,
            destination: KIND,
            length: 4,
            mask: new.to_ne_bytes().to_vec(),
            xor: vec![0; 4],
        },
        Expression::Cmp { register: KIND, op: Compare::Equal, data: vec![0; 4] },
        other,
    ]
}

fn counter() -> Expression {
    Expression::Counter { packets: 0, bytes: 0 }
}

/// The decision's number, known when the rules are made.
pub(super) fn numbered(number: u32) -> Expression {
    Expression::Load { register: DECISION, data: number.to_ne_bytes().to_vec() }
}

/// The decision's number, carried by the packet.
pub(super) fn carried() -> Expression {
    Expression::Meta { key: MetaKey::Priority, register: DECISION }
}

/// Has the packet carry the decision's number on.
pub(super) fn carry_on() -> Expression {
    Expression::MetaSet { key: MetaKey::Priority, source: DECISION }
}
