//! A packet's way through the chains of others, expression by expression, as the kernel evaluates them
//! (net/netfilter/nf_tables_core.c). What is not known of the packet, or not understood, is no guess: then nothing is said.

use super::held::TableName;
use super::leads::{DESTINATION, leads};
use super::registers::{Known, Registers};
use super::step::{
    End, Run, Step, goes_on, led_by_unknown, may_end, not_followed, of_its_own, several, unseen,
};
use super::traveller::Traveller;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use tipstaff_wire::nf_tables::{Compare, Expression, Rule, Verdict, nat, set_flags};

/// Deeper than the kernel lets chains jump (`NFT_JUMP_STACK_SIZE`).
const DEPTH: usize = 16;

impl Run<'_> {
    /// Through a chain and those that it leads to.
    pub(super) fn chain(
        &mut self,
        packet: &Traveller,
        table: &TableName,
        chain: &str,
        depth: usize,
    ) -> End {
        if depth > DEPTH {
            return End::Unknown("its chains lead to each other without end".into());
        }
        for (guard, rule) in self.others.guarded(table, chain) {
            if guard.excludes(packet) {
                continue;
            }
            match self.rule(packet, table, rule, guard.odd) {
                Step::On | Step::Off | Step::Leads(Verdict::Other(-1, _)) => {}
                Step::Leads(Verdict::Accept) => return End::Accepted,
                Step::Leads(Verdict::Drop) => return End::Dropped,
                Step::Leads(Verdict::Return) => return End::Behind,
                Step::Leads(Verdict::Goto(to)) => return self.chain(packet, table, &to, depth + 1),
                Step::Leads(Verdict::Jump(to)) => match self.chain(packet, table, &to, depth + 1) {
                    End::Behind => {}
                    end => return end,
                },
                Step::Leads(Verdict::Other(..)) => {
                    return End::Unknown("it hands packets to a program".into());
                }
                Step::Ends(end) => return end,
                Step::Perhaps(why) => return End::Unknown(why),
            }
        }
        End::Behind
    }

    fn rule(&mut self, packet: &Traveller, table: &TableName, rule: &Rule, odd: bool) -> Step {
        let mut registers = Registers::default();
        let mut doubt: Option<String> = None;
        for expression in &rule.expressions {
            if odd && compares(expression) {
                // Whoever stands for others here does not stand for them there.
                doubt =
                    doubt.or_else(|| Some("it looks at single bits of addresses or ports".into()));
                continue;
            }
            match self.expression(packet, table, &mut registers, expression) {
                Step::On => {}
                Step::Off => return Step::Off,
                Step::Perhaps(why) => doubt = doubt.or(Some(why)),
                // What such a rule would do is not known either; unless it does nothing.
                end => return doubt.map_or(end, Step::Perhaps),
            }
            // Whether the rule came so far is not known.
            match expression {
                Expression::MetaSet { .. } if doubt.is_some() => self.mark = [None; 4],
                Expression::Other { .. } if doubt.is_some() => self.forget(true),
                _ => {}
            }
        }
        Step::On
    }

    /// What somebody may have written on the packet is not known; nor whether he had it let alone, if he `untracks`.
    pub(super) fn forget(&mut self, untracks: bool) {
        self.mark = [None; 4];
        if untracks && self.before_tracking != Some(false) {
            self.untracked = None;
        }
    }

    fn expression(
        &mut self,
        packet: &Traveller,
        table: &TableName,
        registers: &mut Registers,
        expression: &Expression,
    ) -> Step {
        use Expression as E;
        if let Some(step) = self.load(packet, registers, expression) {
            return step;
        }
        match expression {
            E::Cmp { register, op, data } => {
                return compared(&registers.get(*register, data.len()), *op, data);
            }
            E::Range { register, op, from, to } => {
                let Some(value) = registers.known(*register, from.len()) else { return unseen() };
                let inside = *from <= value && value <= *to;
                return goes_on(inside == (*op == Compare::Equal));
            }
            E::Lookup { set, register, to_verdict, flags, .. } => {
                return self.looked_up(
                    (table, set),
                    registers,
                    *register,
                    *to_verdict,
                    *flags & 1 != 0,
                );
            }
            E::Find { set, register, destination, .. } => {
                let Some(held) = self.others.set(table, set) else { return unseen() };
                let Some(key) = registers.known(*register, held.set.key_length as usize) else {
                    return unseen();
                };
                match held.find(&key).and_then(|it| it.data.clone()) {
                    Some(data) => registers.set_known(*destination, &data),
                    None => return Step::Off,
                }
            }
            E::Immediate(verdict) => return Step::Leads(verdict.clone()),
            E::Nat { kind: DESTINATION, address, last_address, port, last_port, flags, .. } => {
                let prefix = *flags & nat::PREFIX != 0;
                let addresses = (*address, *last_address, prefix);
                return translated(packet, registers, addresses, (*port, *last_port));
            }
            E::Redirect { port, last_port, .. } => {
                return match translated(packet, registers, (None, None, false), (*port, *last_port))
                {
                    Step::Ends(End::Translated(_, port)) => match self.own_at(packet) {
                        Some(own) => Step::Ends(End::Translated(Some(own), port)),
                        None => of_its_own(),
                    },
                    other => other,
                };
            }
            E::Reject { .. } => return Step::Ends(End::Dropped),
            E::Counter { .. } | E::Log { .. } | E::MetaSet { .. } | E::Nat { .. } => {}
            E::Other { name, data } if !leads(expression) || name == "target" => {
                return self.other(packet, registers, name, data);
            }
            E::Limit(_) => return Step::Perhaps("it holds up to a rate".into()),
            other => {
                let ends = leads(other) || may_end(other.name());
                return not_followed(registers, other.name(), ends);
            }
        }
        Step::On
    }

    fn looked_up(
        &self,
        (table, set): (&TableName, &str),
        registers: &Registers,
        register: u32,
        to_verdict: bool,
        inverted: bool,
    ) -> Step {
        let Some(held) = self.others.set(table, set) else { return unseen() };
        let Some(key) = registers.known(register, held.set.key_length as usize) else {
            return unseen();
        };
        let found = held.find(&key);
        if !to_verdict {
            // Whoever fills it himself may be in it by then.
            return match found.is_some() {
                false if held.set.flags & set_flags::DYNAMIC != 0 => unseen(),
                is => goes_on(is != inverted),
            };
        }
        match found.and_then(|it| it.verdict.clone()) {
            Some(verdict) => Step::Leads(verdict),
            None => Step::Off,
        }
    }
}

/// Whether what follows depends on what an expression sees.
fn compares(expression: &Expression) -> bool {
    matches!(
        expression,
        Expression::Cmp { .. }
            | Expression::Range { .. }
            | Expression::Lookup { .. }
            | Expression::Find { .. }
    )
}

fn compared(value: &[Known], op: Compare, data: &[u8]) -> Step {
    // One byte that differs is enough.
    let differs = value.iter().zip(data).any(|(value, data)| value.is_some_and(|it| it != *data));
    let known: Option<Vec<u8>> = value.iter().copied().collect();
    match (op, known) {
        (Compare::Equal, _) if differs => Step::Off,
        (Compare::NotEqual, _) if differs => Step::On,
        (_, None) | (Compare::Unknown(..=2 | 6..), _) => unseen(),
        (Compare::Equal, Some(_)) => Step::On,
        (Compare::NotEqual, Some(_)) => Step::Off,
        (Compare::Less, Some(value)) => goes_on(&value[..] < data),
        // NFT_CMP_LTE, NFT_CMP_GT, NFT_CMP_GTE (enum nft_cmp_ops).
        (Compare::Unknown(3), Some(value)) => goes_on(&value[..] <= data),
        (Compare::Unknown(4), Some(value)) => goes_on(&value[..] > data),
        (Compare::Unknown(5), Some(value)) => goes_on(&value[..] >= data),
    }
}

/// Where a packet is led by what is in registers: to an address, or, of several that share a `prefix`, to the one that
/// ends like its own.
fn translated(
    packet: &Traveller,
    registers: &Registers,
    (address, last_address, prefix): (Option<u32>, Option<u32>, bool),
    (port, last_port): (Option<u32>, Option<u32>),
) -> Step {
    let of = |register: u32| -> Option<IpAddr> {
        Some(match packet.is_v4() {
            true => IpAddr::from(<[u8; 4]>::try_from(registers.known(register, 4)?).ok()?),
            false => IpAddr::from(<[u8; 16]>::try_from(registers.known(register, 16)?).ok()?),
        })
    };
    let number = |register: u32| -> Option<u16> {
        Some(u16::from_be_bytes(registers.known(register, 2)?.try_into().ok()?))
    };
    let to = match address {
        None => None,
        Some(register) => {
            let Some(first) = of(register) else { return led_by_unknown() };
            match last_address.map(of) {
                None => Some(first),
                Some(None) => return led_by_unknown(),
                Some(Some(last)) if prefix => Some(mapped(packet.destination, first, last)),
                Some(Some(last)) if last == first => Some(first),
                Some(Some(_)) => return several(),
            }
        }
    };
    let port = match port {
        None => None,
        Some(register) => {
            let Some(first) = number(register) else { return led_by_unknown() };
            // If its own is among them, it keeps that.
            let last = last_port.map_or(Some(first), number);
            match last {
                Some(last) if last == first => Some(first),
                Some(last) if packet.ports.is_some_and(|it| (first..=last).contains(&it.1)) => None,
                _ => return several(),
            }
        }
    };
    Step::Ends(End::Translated(to, port))
}

/// The bits in which two addresses are alike, and the rest of another (`nft_nat_setup_netmap` in
/// net/netfilter/nft_nat.c).
fn mapped(own: IpAddr, first: IpAddr, last: IpAddr) -> IpAddr {
    match (own, first, last) {
        (IpAddr::V4(own), IpAddr::V4(first), IpAddr::V4(last)) => {
            let differs = first.to_bits() ^ last.to_bits();
            Ipv4Addr::from_bits((own.to_bits() & differs) | (first.to_bits() & !differs)).into()
        }
        (IpAddr::V6(own), IpAddr::V6(first), IpAddr::V6(last)) => {
            let differs = first.to_bits() ^ last.to_bits();
            Ipv6Addr::from_bits((own.to_bits() & differs) | (first.to_bits() & !differs)).into()
        }
        // All are of one version, as the packet is.
        _ => first,
    }
}
