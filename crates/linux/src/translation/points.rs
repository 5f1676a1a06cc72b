//! What rules of others tell apart: at other values than these nothing changes. More than needed does no harm.

use super::Translations;
use super::held::{Held, TableName};
use super::older::{Part, part};
use std::collections::{BTreeSet, HashMap};
use std::net::{Ipv4Addr, Ipv6Addr};
use tipstaff_core::space::AddressSet;
use tipstaff_wire::nf_tables::{Base, Expression, Rule, ct, registers};

/// What of a packet is in a register.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum What {
    /// Whence it comes, or the first bytes of that.
    Source,
    /// The port that it goes to.
    Port,
    /// Something else.
    Other,
}

impl What {
    /// What is loaded from a header: the source of IPv4 stands at 12, of IPv6 at 8 (RFC 791, RFC 8200).
    fn loaded(base: Base, offset: u32, length: u32) -> Self {
        match (base, offset, length) {
            (Base::Network, 12, ..=4) | (Base::Network, 8, ..=16) => Self::Source,
            (Base::Transport, 2, 2) => Self::Port,
            _ => Self::Other,
        }
    }
}

/// A value that something is compared with: what of, its first and its last.
type Value = (What, Vec<u8>, Vec<u8>);

impl Translations {
    /// Every value that something is compared with on the way in.
    fn values(&self) -> Vec<Value> {
        let mut found = Vec::new();
        for entrance in &self.entrances {
            for chain in self.others.reached(&entrance.table, &entrance.chain) {
                for rule in self.others.rules(&entrance.table, &chain) {
                    self.of_rule(&entrance.table, rule, &mut found);
                }
            }
        }
        found
    }

    fn of_rule(&self, table: &TableName, rule: &Rule, found: &mut Vec<Value>) {
        let mut mask: Option<&[u8]> = None;
        let mut loaded: HashMap<u32, What> = HashMap::new();
        let what = |loaded: &HashMap<u32, What>, register: u32| {
            loaded.get(&registers::word(register)).copied().unwrap_or(What::Other)
        };
        for expression in &rule.expressions {
            match expression {
                Expression::Payload { register, base, offset, length } => {
                    loaded
                        .insert(registers::word(*register), What::loaded(*base, *offset, *length));
                }
                Expression::Meta { register, .. }
                | Expression::Load { register, .. }
                | Expression::Ct { register, .. }
                | Expression::Fib { register, .. } => {
                    loaded.insert(registers::word(*register), What::Other);
                }
                Expression::CtEnds { register, key, direction: 0 } => {
                    let of = match *key {
                        ct::SOURCE => What::Source,
                        ct::DESTINATION_PORT => What::Port,
                        _ => What::Other,
                    };
                    loaded.insert(registers::word(*register), of);
                }
                Expression::Bitwise { source, destination, mask: bits, .. } => {
                    mask = Some(bits);
                    loaded.insert(registers::word(*destination), what(&loaded, *source));
                }
                Expression::Cmp { register, data, .. } => {
                    let kept = mask.take().filter(|it| it.len() == data.len());
                    let last = data.iter().enumerate();
                    let last = last.map(|(at, byte)| byte | kept.map_or(0, |it| !it[at])).collect();
                    found.push((what(&loaded, *register), data.clone(), last));
                }
                Expression::Range { register, from, to, .. } => {
                    found.push((what(&loaded, *register), from.clone(), to.clone()));
                }
                Expression::Lookup { set, register, .. }
                | Expression::Find { set, register, .. } => {
                    if let Some(held) = self.others.set(table, set) {
                        let first = registers::word(*register);
                        of_set(held, |word| what(&loaded, first + word), found);
                    }
                }
                Expression::Other { name, data } => {
                    // What it reads of ports is the same for both versions.
                    if let Some(Part::Port { first, last, .. }) = part(name, data, true) {
                        let bytes = |it: u16| it.to_be_bytes().to_vec();
                        found.push((What::Port, bytes(first), bytes(last)));
                    }
                }
                _ => {}
            }
        }
    }

    /// The ports at which something may change, the first ones: from one to before the next all ports fare alike.
    #[must_use]
    pub fn ports(&self) -> BTreeSet<u16> {
        let mut starts = BTreeSet::from([0]);
        for (what, first, last) in self.values() {
            if what == What::Port && first.len() == 2 && last.len() == 2 {
                starts.insert(u16::from_be_bytes([first[0], first[1]]));
                starts.extend(u16::from_be_bytes([last[0], last[1]]).checked_add(1));
            }
        }
        starts
    }

    /// The senders among whom something may make a difference.
    #[must_use]
    pub fn sources(&self) -> Vec<AddressSet> {
        let mut found = BTreeSet::new();
        for (what, first, last) in self.values() {
            // A prefix is compared as no more than its bytes, of either version.
            for whole in [4, 16] {
                if what != What::Source || first.len() > whole || last.len() != first.len() {
                    continue;
                }
                let filled = |bytes: &[u8], with: u8| {
                    let mut bytes = bytes.to_vec();
                    bytes.resize(whole, with);
                    bytes
                };
                found.insert((filled(&first, 0), filled(&last, 255)));
            }
        }
        found.iter().filter_map(|(first, last)| range(first, last)).collect()
    }
}

/// Addresses from one to another.
fn range(first: &[u8], last: &[u8]) -> Option<AddressSet> {
    if first > last {
        return None;
    }
    if let (Ok(first), Ok(last)) = (<[u8; 4]>::try_from(first), <[u8; 4]>::try_from(last)) {
        return Some(AddressSet::from_v4([(
            Ipv4Addr::from(first).to_bits(),
            Ipv4Addr::from(last).to_bits(),
        )]));
    }
    let (first, last) = (<[u8; 16]>::try_from(first).ok()?, <[u8; 16]>::try_from(last).ok()?);
    Some(AddressSet::from_v6([(Ipv6Addr::from(first).to_bits(), Ipv6Addr::from(last).to_bits())]))
}

/// What the keys of a set are compared with, part by part; `what` tells what is in a register, so many words on.
fn of_set(held: &Held, what: impl Fn(u32) -> What, found: &mut Vec<Value>) {
    for element in &held.elements {
        let Some(key) = &element.key else { continue };
        let last = element.last.as_ref().unwrap_or(key);
        let (mut at, mut word) = (0, 0);
        let whole = [held.set.key_length];
        let parts = if held.set.parts.is_empty() { &whole[..] } else { &held.set.parts };
        for &length in parts {
            let bytes = at..at + length as usize;
            if let (Some(first), Some(last)) = (key.get(bytes.clone()), last.get(bytes)) {
                found.push((what(word), first.to_vec(), last.to_vec()));
            }
            at += (length as usize).next_multiple_of(4);
            word += length.div_ceil(4);
        }
    }
}
