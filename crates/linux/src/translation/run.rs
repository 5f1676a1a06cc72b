//! A packet's way through the chains of others, expression by expression, as the kernel evaluates them
//! (net/netfilter/nf_tables_core.c). What is not known of the packet, or not understood, is no guess: then nothing is said.

use super::held::{Others, TableName};
use super::registers::{Known, Registers};
use super::traveller::Traveller;
use crate::addresses::Link;
use std::net::IpAddr;
use tipstaff_wire::nf_tables::{
    Compare, Expression, MetaKey, Rule, STATE_BITS, Verdict, ct, fib, set_flags,
};

/// `IP_CT_NEW` among the bits of a connection's state.
const NEW: u32 = STATE_BITS[3];
/// `RTN_UNICAST` (linux/rtnetlink.h).
const UNICAST: u32 = 1;
/// `NF_NAT_MANIP_DST`: where it goes (`enum nft_nat_types`).
const DESTINATION: u32 = 1;
/// Deeper than the kernel lets chains jump (`NFT_JUMP_STACK_SIZE`).
const DEPTH: usize = 16;
/// `NFT_META_PROTOCOL`: the EtherType; `NFT_META_PKTTYPE`: to this host, a byte.
const ETHER_TYPE: u32 = 1;
const PACKET_TYPE: u32 = 17;

/// How a chain leaves a packet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum End {
    /// Undecided, as far as its end.
    Behind,
    /// Let through, by this chain.
    Accepted,
    /// Kept out.
    Dropped,
    /// Sent elsewhere: where, as far as an address is said, and at which port, if one is.
    Translated(Option<IpAddr>, Option<u16>),
    /// It is not known, for this reason, as the end of a sentence.
    Unknown(String),
}

/// Whether a rule goes on to its next expression.
enum Step {
    On,
    Off,
    Ends(End),
    Leads(Verdict),
    /// Whether it goes on is not known.
    Perhaps(String),
}

/// One packet, and what is written down of it on its way.
pub(super) struct Run<'o> {
    pub others: &'o Others,
    pub links: &'o [Link],
    /// The packet's mark, as far as it is known.
    pub mark: [Known; 4],
    /// Whether connection tracking has been told to let it alone.
    pub untracked: bool,
}

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
        for rule in self.others.rules(table, chain) {
            match self.rule(packet, table, rule) {
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

    fn rule(&mut self, packet: &Traveller, table: &TableName, rule: &Rule) -> Step {
        let mut registers = Registers::default();
        let mut doubt: Option<String> = None;
        for expression in &rule.expressions {
            match self.expression(packet, table, &mut registers, expression) {
                Step::On => {}
                Step::Off => return Step::Off,
                Step::Perhaps(why) => doubt = doubt.or(Some(why)),
                // What such a rule would do is not known either; unless it does nothing.
                end => return doubt.map_or(end, Step::Perhaps),
            }
            if doubt.is_some() && matches!(expression, Expression::MetaSet { .. }) {
                self.mark = [None; 4];
            }
        }
        Step::On
    }

    fn expression(
        &mut self,
        packet: &Traveller,
        table: &TableName,
        registers: &mut Registers,
        expression: &Expression,
    ) -> Step {
        use Expression as E;
        match expression {
            E::Meta { register, key } => return self.meta(packet, registers, *register, *key),
            E::MetaSet { key: MetaKey::Mark, source } => {
                self.mark = registers.get(*source, 4).try_into().unwrap_or([None; 4]);
            }
            E::Load { register, data } => registers.set_known(*register, data),
            E::Payload { register, base, offset, length } => {
                registers.set(*register, &packet.bytes(*base, *offset as usize, *length as usize));
            }
            E::Fib { register, flags } => {
                let of = if *flags == fib::SOURCE { packet.source } else { packet.destination };
                let kind = if self.is_own(of) { fib::LOCAL } else { UNICAST };
                registers.set_known(*register, &kind.to_ne_bytes());
            }
            E::Ct { register, key } => match *key {
                _ if self.untracked => {
                    return Step::Perhaps("connection tracking lets it alone".into());
                }
                ct::STATE => registers.set_known(*register, &NEW.to_ne_bytes()),
                _ => registers.set(*register, &[None; 16]),
            },
            E::CtEnds { register, key, direction: 0 } => {
                match packet.began_with(*key) {
                    Some(bytes) => registers.set_known(*register, &bytes),
                    None => registers.set(*register, &[None; 16]),
                };
            }
            E::Bitwise { source, destination, length, mask, xor } => {
                let bytes: Vec<Known> = (registers.get(*source, *length as usize).into_iter())
                    .zip(mask.iter().zip(xor))
                    .map(|(byte, (mask, xor))| match (byte, mask) {
                        (_, 0) => Some(*xor),
                        (byte, mask) => byte.map(|it| (it & mask) ^ xor),
                    })
                    .collect();
                registers.set(*destination, &bytes);
            }
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
            E::Nat { kind: DESTINATION, address, last_address, port, last_port, .. } => {
                return translated(
                    packet,
                    registers,
                    (*address, *last_address),
                    (*port, *last_port),
                );
            }
            E::Redirect { port, last_port, .. } => {
                return match translated(packet, registers, (None, None), (*port, *last_port)) {
                    Step::Ends(End::Translated(_, port)) => match self.own_at(packet) {
                        Some(own) => Step::Ends(End::Translated(Some(own), port)),
                        None => {
                            Step::Perhaps("it leads to one of this host's own addresses".into())
                        }
                    },
                    other => other,
                };
            }
            E::Reject { .. } => return Step::Ends(End::Dropped),
            E::Counter { .. } | E::Log { .. } | E::MetaSet { .. } | E::Nat { .. } => {}
            E::Other { name, .. } => return self.other(registers, name),
            E::Limit(_) => return Step::Perhaps("it holds up to a rate".into()),
            _ => {
                registers.forget();
                return Step::Perhaps(format!("`{}` is not followed", expression.name()));
            }
        }
        Step::On
    }

    fn is_own(&self, address: IpAddr) -> bool {
        let mut all = self.links.iter().flat_map(|it| &it.addresses);
        address.is_loopback() || all.any(|it| it.0 == address)
    }

    /// The address of the interface that a packet comes by which redirected ones go to: the first one
    /// (nf_nat_redirect in net/netfilter). Of several of IPv6 which that is depends on the kernel.
    fn own_at(&self, packet: &Traveller) -> Option<IpAddr> {
        let link = self.links.iter().find(|it| Some(&it.name) == packet.in_interface.as_ref())?;
        let mut fitting = link.addresses.iter().map(|it| it.0).filter(|it| match it {
            IpAddr::V4(_) => packet.is_v4(),
            IpAddr::V6(it) => !packet.is_v4() && !it.is_unicast_link_local(),
        });
        let first = fitting.next()?;
        (packet.is_v4() || fitting.next().is_none()).then_some(first)
    }

    fn meta(
        &self,
        packet: &Traveller,
        registers: &mut Registers,
        register: u32,
        key: MetaKey,
    ) -> Step {
        match key {
            MetaKey::Protocol => registers.set_known(register, &[packet.protocol]),
            MetaKey::Family => {
                registers.set_known(register, &[if packet.is_v4() { 2 } else { 10 }])
            }
            MetaKey::Mark => registers.set(register, &self.mark),
            MetaKey::InInterfaceName => match &packet.in_interface {
                Some(name) => {
                    let mut bytes = [0; 16];
                    bytes.iter_mut().zip(name.bytes()).for_each(|(place, byte)| *place = byte);
                    registers.set_known(register, &bytes);
                }
                None => registers.set(register, &[None; 16]),
            },
            MetaKey::Unknown(ETHER_TYPE) => {
                let kind: u16 = if packet.is_v4() { 0x0800 } else { 0x86dd };
                registers.set_known(register, &kind.to_be_bytes());
            }
            MetaKey::Unknown(PACKET_TYPE) => registers.set_known(register, &[0]),
            _ => registers.set(register, &[None; 16]),
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

    fn other(&mut self, registers: &mut Registers, name: &str) -> Step {
        match name {
            "notrack" => self.untracked = true,
            // Where it comes from is translated behind all that decides; the others do nothing to it.
            "masq" | "dup" | "last" => {}
            _ => {
                registers.forget();
                return Step::Perhaps(format!("`{name}` is not followed"));
            }
        }
        Step::On
    }
}

fn unseen() -> Step {
    Step::Perhaps("it looks at what is not known of a packet".into())
}

fn goes_on(does: bool) -> Step {
    if does { Step::On } else { Step::Off }
}

fn compared(value: &[Known], op: Compare, data: &[u8]) -> Step {
    // One byte that differs is enough.
    let differs = value.iter().zip(data).any(|(value, data)| value.is_some_and(|it| it != *data));
    let known: Option<Vec<u8>> = value.iter().copied().collect();
    match (op, known) {
        (Compare::Equal, _) if differs => Step::Off,
        (Compare::NotEqual, _) if differs => Step::On,
        (_, None) => unseen(),
        (Compare::Equal, Some(_)) => Step::On,
        (Compare::NotEqual, Some(_)) => Step::Off,
        (Compare::Less, Some(value)) => goes_on(&value[..] < data),
        // NFT_CMP_LTE, NFT_CMP_GT, NFT_CMP_GTE (enum nft_cmp_ops).
        (Compare::Unknown(3), Some(value)) => goes_on(&value[..] <= data),
        (Compare::Unknown(4), Some(value)) => goes_on(&value[..] > data),
        (Compare::Unknown(5), Some(value)) => goes_on(&value[..] >= data),
        (Compare::Unknown(_), Some(_)) => unseen(),
    }
}

/// Where a packet is led by what is in registers.
fn translated(
    packet: &Traveller,
    registers: &Registers,
    (address, last_address): (Option<u32>, Option<u32>),
    (port, last_port): (Option<u32>, Option<u32>),
) -> Step {
    let several = || Step::Perhaps("it leads to one of several".into());
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
            let Some(to) = of(register) else { return unseen() };
            if last_address.is_some_and(|it| of(it) != Some(to)) {
                return several();
            }
            Some(to)
        }
    };
    let port = match port {
        None => None,
        Some(register) => {
            let Some(first) = number(register) else { return unseen() };
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
