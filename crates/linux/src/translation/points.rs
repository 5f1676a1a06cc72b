//! What rules of others tell apart: at other values than these nothing changes. More than needed does no harm.

use super::Translations;
use super::held::Held;
use super::older::{Part, part};
use std::collections::BTreeSet;
use std::net::{Ipv4Addr, Ipv6Addr};
use tipstaff_core::space::AddressSet;
use tipstaff_wire::nf_tables::Expression;

impl Translations {
    /// Every value that something is compared with on the way in, as its first and its last.
    fn values(&self) -> Vec<(Vec<u8>, Vec<u8>)> {
        let mut found = Vec::new();
        for entrance in &self.entrances {
            for chain in self.others.reached(&entrance.table, &entrance.chain) {
                for rule in self.others.rules(&entrance.table, &chain) {
                    let mut mask: Option<&[u8]> = None;
                    for expression in &rule.expressions {
                        match expression {
                            Expression::Bitwise { mask: bits, .. } => mask = Some(bits),
                            Expression::Cmp { data, .. } => {
                                let last = data.iter().enumerate().map(|(at, byte)| {
                                    let kept = mask.filter(|it| it.len() == data.len());
                                    byte | kept.map_or(0, |it| !it[at])
                                });
                                found.push((data.clone(), last.collect()));
                                mask = None;
                            }
                            Expression::Range { from, to, .. } => {
                                found.push((from.clone(), to.clone()));
                            }
                            Expression::Lookup { set, .. } | Expression::Find { set, .. } => {
                                if let Some(held) = self.others.set(&entrance.table, set) {
                                    of_set(held, &mut found);
                                }
                            }
                            Expression::Other { name, data } => {
                                // What it reads of addresses is the same for both versions.
                                if let Some(Part::Port { first, last, .. }) = part(name, data, true)
                                {
                                    let bytes = |it: u16| it.to_be_bytes().to_vec();
                                    found.push((bytes(first), bytes(last)));
                                }
                            }
                            _ => {}
                        }
                    }
                }
            }
        }
        found
    }

    /// The ports at which something may change, the first ones: from one to before the next all ports fare alike.
    #[must_use]
    pub fn ports(&self) -> BTreeSet<u16> {
        let mut starts = BTreeSet::from([0]);
        for (first, last) in self.values() {
            if first.len() == 2 && last.len() == 2 {
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
        for (first, last) in self.values() {
            let whole = [4, 16].into_iter().find(|it| first.len() <= *it).unwrap_or_default();
            if first.len() != last.len() || whole == 0 || (whole == 16 && first.len() < 8) {
                continue;
            }
            // A prefix is compared as no more than its bytes.
            let filled = |bytes: &[u8], with: u8| {
                let mut bytes = bytes.to_vec();
                bytes.resize(whole, with);
                bytes
            };
            found.insert((filled(&first, 0), filled(&last, 255)));
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

/// What keys of a set are, each part by itself: which of them is what is not known.
fn of_set(held: &Held, found: &mut Vec<(Vec<u8>, Vec<u8>)>) {
    for element in &held.elements {
        let Some(key) = &element.key else { continue };
        let last = element.last.as_ref().unwrap_or(key);
        if held.set.parts.len() < 2 {
            found.push((key.clone(), last.clone()));
            // What is behind an interval is another.
            if element.ends_interval {
                found.push((key.clone(), key.clone()));
            }
            continue;
        }
        let mut at = 0;
        for length in held.set.parts.iter().map(|it| *it as usize) {
            if let (Some(first), Some(last)) = (key.get(at..at + length), last.get(at..at + length))
            {
                found.push((first.to_vec(), last.to_vec()));
            }
            at += length.next_multiple_of(4);
        }
    }
}
