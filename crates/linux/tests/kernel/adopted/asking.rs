//! What generated rules ask of ports and addresses.

use super::generated::{ENDS, PROTOCOLS, Table};
use crate::translated::parts::{ONE, PORTS, SOURCES, octets, port, version};
use std::net::IpAddr;
use tipstaff_wire::nf_tables::{
    Base, Compare, Element, Expression, FAMILY_INET, MetaKey, set_flags,
};

impl Table<'_> {
    pub(super) fn by_port(&mut self) -> Vec<Expression> {
        let number = self.dice.of(&PORTS);
        let bytes = |it: u16| it.to_be_bytes().to_vec();
        let compared = |op| Expression::Cmp { register: ONE, op, data: bytes(number) };
        let last = number + u16::try_from(self.dice.below(100)).expect("small");
        match self.dice.below(7) {
            0 | 1 => vec![port(), compared(Compare::Equal)],
            2 => {
                let op = self.dice.of(&[
                    Compare::NotEqual,
                    Compare::Less,
                    Compare::Unknown(3),
                    Compare::Unknown(4),
                    Compare::Unknown(5),
                ]);
                vec![port(), compared(op)]
            }
            3 => {
                let op = self.dice.of(&[Compare::Equal, Compare::NotEqual]);
                let (from, to) = (bytes(number), bytes(last));
                vec![port(), Expression::Range { register: ONE, op, from, to }]
            }
            4 => {
                let mut keys = vec![number, self.dice.of(&PORTS), self.dice.of(&PORTS)];
                keys.sort_unstable();
                keys.dedup();
                let elements: Vec<Element> =
                    keys.into_iter().map(|it| Element::key(bytes(it))).collect();
                let set = self.set(0, 2, &elements);
                let flags = u32::from(self.dice.below(4) == 0);
                vec![port(), Self::lookup(&set, false, flags)]
            }
            5 => {
                let ends = [Element::key(bytes(number)), Element::end(bytes(last + 1))];
                let set = self.set(set_flags::INTERVAL, 2, &ends);
                vec![port(), Self::lookup(&set, false, 0)]
            }
            _ => vec![
                Expression::Payload { register: ONE, base: Base::Transport, offset: 0, length: 2 },
                Expression::Cmp {
                    register: ONE,
                    op: self.dice.of(&[Compare::Less, Compare::Unknown(5)]),
                    data: bytes(40_000),
                },
            ],
        }
    }

    /// Loads an end of a packet, behind its IP version where the table is for both.
    fn load(&self, of: IpAddr, source: bool, length: u32) -> Vec<Expression> {
        let mut all = if self.family == FAMILY_INET { version(of).to_vec() } else { Vec::new() };
        let offset = match (of.is_ipv4(), source) {
            (true, true) => 12,
            (true, false) => 16,
            (false, true) => 8,
            (false, false) => 24,
        };
        all.push(Expression::Payload { register: ONE, base: Base::Network, offset, length });
        all
    }

    pub(super) fn by_address(&mut self, source: bool) -> Vec<Expression> {
        let end = if source { self.of_version(&SOURCES) } else { self.of_version(&ENDS) };
        let whole = octets(end);
        let length = u32::try_from(whole.len()).expect("small");
        let op = self.dice.of(&[Compare::Equal, Compare::Equal, Compare::NotEqual]);
        match self.dice.below(3) {
            0 => {
                let mut all = self.load(end, source, length);
                all.push(Expression::Cmp { register: ONE, op, data: whole });
                all
            }
            1 => {
                // The first bytes only.
                let kept = if end.is_ipv4() { 3 } else { 8 };
                let mut all = self.load(end, source, kept);
                let data = whole[..kept as usize].to_vec();
                all.push(Expression::Cmp { register: ONE, op, data });
                all
            }
            _ => {
                let bits: i32 = if end.is_ipv4() { self.dice.of(&[9, 20, 27]) } else { 45 };
                let mask: Vec<u8> = (0..whole.len())
                    .map(|at| {
                        let left = bits - 8 * i32::try_from(at).expect("small");
                        if left >= 8 { 255 } else { !(255u8 >> left.max(0)) }
                    })
                    .collect();
                let data = whole.iter().zip(&mask).map(|(byte, mask)| byte & mask).collect();
                let mut all = self.load(end, source, length);
                all.extend([
                    Expression::Bitwise {
                        source: ONE,
                        destination: ONE,
                        length,
                        mask,
                        xor: vec![0; whole.len()],
                    },
                    Expression::Cmp { register: ONE, op, data },
                ]);
                all
            }
        }
    }

    pub(super) fn by_set_of_addresses(&mut self) -> Vec<Expression> {
        let end = self.of_version(&SOURCES);
        let whole = octets(end);
        let (mut first, mut behind) = (whole.clone(), whole.clone());
        *first.last_mut().expect("bytes") = 0;
        *behind.last_mut().expect("bytes") = 200;
        let set = self.set(
            set_flags::INTERVAL,
            u32::try_from(whole.len()).expect("small"),
            &[Element::key(first), Element::end(behind)],
        );
        let mut all = self.load(end, true, u32::try_from(whole.len()).expect("small"));
        all.push(Self::lookup(&set, false, u32::from(self.dice.below(4) == 0)));
        all
    }

    /// Protocol and port together, in one set.
    pub(super) fn by_both(&mut self) -> Vec<Expression> {
        let mut keys: Vec<(u8, u16)> =
            (0..3).map(|_| (self.dice.of(&PROTOCOLS), self.dice.of(&PORTS))).collect();
        keys.sort_unstable();
        keys.dedup();
        let key = |(number, port): (u8, u16)| {
            let [high, low] = port.to_be_bytes();
            Element::key(vec![number, 0, 0, 0, high, low, 0, 0])
        };
        let elements: Vec<Element> = keys.into_iter().map(key).collect();
        let set = self.set(0, 8, &elements);
        vec![
            Expression::Meta { register: ONE, key: MetaKey::Protocol },
            Expression::Payload { register: 9, base: Base::Transport, offset: 2, length: 2 },
            Self::lookup(&set, false, 0),
        ]
    }
}
