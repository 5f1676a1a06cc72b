//! What rules of others tell apart: at other values than these nothing changes. More than needed does no harm.

use super::Translations;
use super::held::{Held, TableName};
use super::older::{Part, part};
use super::what::{Loaded, What};
use std::collections::{BTreeSet, HashMap};
use std::net::{Ipv4Addr, Ipv6Addr};
use tipstaff_core::space::AddressSet;
use tipstaff_wire::nf_tables::{Expression, Rule, registers};

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
        let mut loaded = Loaded::default();
        let mut numbers: HashMap<u32, &[u8]> = HashMap::new();
        for expression in &rule.expressions {
            match expression {
                Expression::Load { register, data } => {
                    numbers.insert(registers::word(*register), data);
                }
                Expression::Cmp { register, data, .. } => {
                    let (what, mask) = loaded.at(registers::word(*register));
                    found.push((what, data.clone(), up_to(data, mask)));
                }
                Expression::Range { register, from, to, .. } => {
                    let (what, mask) = loaded.at(registers::word(*register));
                    found.push((what, from.clone(), up_to(to, mask)));
                }
                Expression::Lookup { set, register, .. }
                | Expression::Find { set, register, .. } => {
                    if let Some(held) = self.others.set(table, set) {
                        let first = registers::word(*register);
                        of_set(held, |word| loaded.at(first + word), found);
                    }
                }
                // Of several ports, one's own is kept, if it is among them.
                Expression::Nat { port: Some(first), last_port: Some(last), .. }
                | Expression::Redirect { port: Some(first), last_port: Some(last), .. } => {
                    let number = |register: &u32| numbers.get(&registers::word(*register));
                    if let (Some(first), Some(last)) = (number(first), number(last))
                        && first != last
                    {
                        found.push((What::Port, first.to_vec(), last.to_vec()));
                    }
                }
                Expression::Other { name, data } => {
                    let bytes = |it: u16| it.to_be_bytes().to_vec();
                    // What it reads of ports is the same for both versions.
                    match part(name, data, true) {
                        Some(Part::Port { first, last, .. }) => {
                            found.push((What::Port, bytes(first), bytes(last)));
                        }
                        Some(
                            Part::Leads { ports: Some((first, last)), .. }
                            | Part::Here { ports: Some((first, last)) },
                        ) if first != last => {
                            found.push((What::Port, bytes(first), bytes(last)));
                        }
                        _ => {}
                    }
                }
                _ => {}
            }
            // What was looked up is written over only now.
            loaded.note(expression);
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

/// The last value that is the same as one behind a mask.
fn up_to(value: &[u8], mask: Option<&[u8]>) -> Vec<u8> {
    let kept = mask.filter(|it| it.len() == value.len());
    let bytes = value.iter().enumerate();
    bytes.map(|(at, byte)| byte | kept.map_or(0, |it| !it[at])).collect()
}

/// What the keys of a set are compared with, part by part; `at` tells what is in a register, so many words on.
fn of_set<'r>(held: &Held, at: impl Fn(u32) -> (What, Option<&'r [u8]>), found: &mut Vec<Value>) {
    for element in &held.elements {
        let Some(key) = &element.key else { continue };
        let last = element.last.as_ref().unwrap_or(key);
        let (mut byte, mut word) = (0, 0);
        let whole = [held.set.key_length];
        let parts = if held.set.parts.is_empty() { &whole[..] } else { &held.set.parts };
        for &length in parts {
            let bytes = byte..byte + length as usize;
            if let (Some(first), Some(last)) = (key.get(bytes.clone()), last.get(bytes)) {
                let (what, mask) = at(word);
                found.push((what, first.to_vec(), up_to(last, mask)));
            }
            byte += (length as usize).next_multiple_of(4);
            word += length.div_ceil(4);
        }
    }
}
