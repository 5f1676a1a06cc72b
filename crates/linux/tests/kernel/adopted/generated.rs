//! Rule sets of others, from a seed: tables of all three kinds, with sets, maps, chains that lead to each other, rates,
//! states, interfaces and marks.

use super::older::older_form;
use crate::translated::parts::{Dice, ONE, PORTS, SOURCES, equal, port, protocol, version};
use std::net::IpAddr;
use tipstaff_linux::lab::testing::address;
use tipstaff_wire::nf_tables::{
    self as nf, Base, Batch, BatchOutput, Compare, Element, Expression, FAMILY_INET, FAMILY_IPV4,
    FAMILY_IPV6, Hook, Limit, MetaKey, PROHIBITED, RejectKind, Rule, Verdict, ct, fib, set_flags,
};

pub(super) const ENDS: [&str; 6] =
    ["192.0.2.10", "10.44.8.10", "10.44.8.20", "2001:db8:2::10", "fd44:8::10", "fd44:8::20"];
pub(super) const PROTOCOLS: [u8; 3] = [6, 17, 132];

/// A table in the making.
pub struct Table<'d> {
    pub(super) dice: &'d mut Dice,
    batch: Batch,
    name: &'d str,
    pub(super) family: u8,
    next_set: u32,
    helpers: usize,
    /// Whether it is as most people have it.
    tidy: bool,
    /// The host's interfaces and their numbers.
    links: [(&'static str, u32); 3],
    /// Whether the kernel has parts in the form of its older packet filter.
    older: bool,
}

fn interface(name: &str) -> Vec<u8> {
    let mut bytes = name.as_bytes().to_vec();
    bytes.resize(16, 0);
    bytes
}

/// What owners write at a rule, as the kernel keeps it for them.
fn remark(text: &str) -> Vec<u8> {
    let length = u8::try_from(text.len() + 1).expect("short");
    [&[0, length], text.as_bytes(), &[0]].concat()
}

/// The tables of a seed, each as one batch; if `tidy`, as most people have them.
pub fn tables(
    seed: u64,
    tidy: bool,
    links: [(&'static str, u32); 3],
    older: bool,
) -> Vec<BatchOutput> {
    let mut dice = Dice(seed.wrapping_mul(0x2545_f491_4f6c_dd1d));
    let mut all = Vec::new();
    let kinds: &[u8] = match dice.below(6) {
        0 => &[FAMILY_IPV4],
        1 => &[FAMILY_IPV4, FAMILY_IPV6],
        2 if !tidy => &[FAMILY_INET, FAMILY_IPV4],
        3 if !tidy => &[FAMILY_INET, FAMILY_INET],
        _ => &[FAMILY_INET],
    };
    for (family, name) in kinds.iter().zip(["sieve", "gate"]) {
        let helpers = 1 + dice.below(3);
        let mut table = Table {
            dice: &mut dice,
            batch: Batch::begin(1),
            name,
            family: *family,
            next_set: 1,
            helpers,
            tidy,
            links,
            older,
        };
        table.fill();
        let mut batch = table.batch.finish().expect("fits");
        in_family(&mut batch, *family);
        all.push(batch);
    }
    all
}

/// Batches are made for tables of both IP versions: here their messages (subsystem 10) are given another one.
pub(super) fn in_family(batch: &mut BatchOutput, family: u8) {
    let mut at = 0;
    while at + 16 < batch.bytes.len() {
        let length = u32::from_ne_bytes(batch.bytes[at..at + 4].try_into().expect("four"));
        if batch.bytes[at + 5] == 10 {
            batch.bytes[at + 16] = family;
        }
        at += (length as usize).next_multiple_of(4);
    }
}

impl Table<'_> {
    fn fill(&mut self) {
        let name = self.name.to_owned();
        self.batch.new_table(&nf::Table { name: name.clone(), ..nf::Table::default() });
        for at in (0..self.helpers).rev() {
            self.batch.new_chain(&nf::Chain {
                table: name.clone(),
                name: format!("part-{at}"),
                ..nf::Chain::default()
            });
        }
        let hooks = [
            (Hook::LOCAL_IN, "arrivals"),
            (Hook::LOCAL_OUT, "leaving"),
            (Hook::FORWARD, "through"),
        ];
        for (number, chain) in hooks {
            if chain != "arrivals" && self.dice.below(3) == 0 {
                continue;
            }
            self.batch.new_chain(&nf::Chain {
                table: name.clone(),
                name: chain.into(),
                kind: Some("filter".into()),
                hook: Some(Hook { number, priority: self.dice.of(&[-10, 0, 10]) }),
                policy: Some(u32::from(self.dice.below(5) < 2)),
                ..nf::Chain::default()
            });
            self.usual(chain, number);
            for _ in 0..2 + self.dice.below(6) {
                self.rule(chain, Some(number), 0);
            }
        }
        for at in 0..self.helpers {
            for _ in 0..1 + self.dice.below(4) {
                self.rule(&format!("part-{at}"), None, at + 1);
            }
        }
    }

    fn add(&mut self, chain: &str, expressions: Vec<Expression>) {
        let user_data = match self.dice.below(3) {
            0 => remark(self.dice.of(&["catalogue", "remote shell", "the curators' office"])),
            _ => Vec::new(),
        };
        let (table, chain) = (self.name.to_owned(), chain.to_owned());
        self.batch.new_rule(&Rule { table, chain, expressions, user_data, ..Rule::default() });
    }

    /// What most people's chains begin with.
    fn usual(&mut self, chain: &str, hook: u32) {
        let accept = || Expression::Immediate(Verdict::Accept);
        if self.tidy || self.dice.below(4) > 0 {
            let states = Self::states(&[2, 4]);
            self.add(chain, states.into_iter().chain([accept()]).collect());
        }
        if hook != Hook::FORWARD && (self.tidy || self.dice.below(2) == 0) {
            let key = if hook == Hook::LOCAL_IN {
                MetaKey::InInterfaceName
            } else {
                MetaKey::OutInterfaceName
            };
            let link = [Expression::Meta { register: ONE, key }, equal(interface("lo")), accept()];
            self.add(chain, link.into());
        }
        if self.dice.below(3) == 0 {
            let drop = Expression::Immediate(Verdict::Drop);
            self.add(chain, Self::states(&[1]).into_iter().chain([drop]).collect());
        }
    }

    fn states(bits: &[u32]) -> Vec<Expression> {
        let mask: u32 = bits.iter().sum();
        vec![
            Expression::Ct { register: ONE, key: ct::STATE },
            Expression::Bitwise {
                source: ONE,
                destination: ONE,
                length: 4,
                mask: mask.to_ne_bytes().to_vec(),
                xor: vec![0; 4],
            },
            Expression::Cmp { register: ONE, op: Compare::NotEqual, data: vec![0; 4] },
        ]
    }

    fn rule(&mut self, chain: &str, hook: Option<u32>, helper: usize) {
        let mut expressions = Vec::new();
        let carried = self.carried(&mut expressions);
        for _ in 0..self.dice.below(3) {
            let test = self.test(carried, hook);
            expressions.extend(test);
        }
        if self.dice.below(3) == 0 {
            expressions.push(Expression::Counter { packets: 0, bytes: 0 });
        }
        let end = self.act(carried, helper);
        expressions.extend(end);
        self.add(chain, expressions);
    }

    /// What the packets carry that a rule is about, if it says so.
    fn carried(&mut self, out: &mut Vec<Expression>) -> Option<u8> {
        let number = match self.dice.below(8) {
            0..=3 => self.dice.of(&PROTOCOLS),
            4 => self.dice.of(&[1, 58]),
            5 => 47,
            _ => return None,
        };
        if [1, 58].contains(&number)
            && self.family == FAMILY_INET
            && (self.tidy || self.dice.below(2) == 0)
        {
            let of = address(if number == 1 { SOURCES[0] } else { SOURCES[3] });
            out.extend(version(of));
        }
        if self.dice.below(10) == 0 && number == 6 {
            let other =
                Expression::Cmp { register: ONE, op: Compare::NotEqual, data: vec![number] };
            out.extend([Expression::Meta { register: ONE, key: MetaKey::Protocol }, other]);
            return None;
        }
        out.extend(protocol(number));
        Some(number)
    }

    pub(super) fn of_version(&mut self, list: &[&str]) -> IpAddr {
        loop {
            let found = address(self.dice.of(list));
            let fits = match self.family {
                FAMILY_IPV4 => found.is_ipv4(),
                FAMILY_IPV6 => found.is_ipv6(),
                _ => true,
            };
            if fits {
                return found;
            }
        }
    }

    pub(super) fn set(&mut self, flags: u32, key_length: u32, elements: &[Element]) -> nf::Set {
        let id = self.next_set;
        self.next_set += 1;
        let set = nf::Set {
            table: self.name.into(),
            name: if self.dice.below(2) == 0 { format!("__set{id}") } else { format!("list-{id}") },
            flags: flags | set_flags::CONSTANT,
            key_length,
            verdicts: flags & set_flags::MAP != 0,
            id,
            ..nf::Set::default()
        };
        self.batch.new_set(&set);
        self.batch.new_elements(&set, elements);
        set
    }

    pub(super) fn lookup(set: &nf::Set, to_verdict: bool, flags: u32) -> Expression {
        let (set, id) = (set.name.clone(), set.id);
        Expression::Lookup { set, register: ONE, to_verdict, id, flags }
    }

    fn test(&mut self, carried: Option<u8>, hook: Option<u32>) -> Vec<Expression> {
        let ports = carried.is_some_and(|it| PROTOCOLS.contains(&it));
        match self.dice.below(13) {
            0..=3 if ports => self.by_port(),
            0..=2 if carried.is_some_and(|it| [1, 58].contains(&it)) => {
                let kind = match (self.tidy, carried) {
                    (true, Some(1)) => self.dice.of(&[8u8, 3]),
                    (true, _) => self.dice.of(&[128u8, 1]),
                    _ => self.dice.of(&[8u8, 128, 3, 133, 13]),
                };
                let load = Expression::Payload {
                    register: ONE,
                    base: Base::Transport,
                    offset: 0,
                    length: 1,
                };
                vec![load, equal(vec![kind])]
            }
            4 | 5 => self.by_address(true),
            6 => self.by_address(false),
            7 => self.by_set_of_addresses(),
            8 if !self.tidy => {
                let bits = self.dice.of(&[&[8][..], &[8, 64], &[2, 4, 8], &[1, 64], &[8, 1]]);
                Self::states(bits)
            }
            9 => {
                let key = match hook {
                    Some(Hook::LOCAL_OUT) => MetaKey::OutInterfaceName,
                    Some(Hook::LOCAL_IN) => MetaKey::InInterfaceName,
                    _ => self.dice.of(&[MetaKey::InInterfaceName, MetaKey::OutInterfaceName]),
                };
                let op = self.dice.of(&[Compare::Equal, Compare::NotEqual]);
                let (name, number) = self.dice.of(&self.links);
                if self.dice.below(3) == 0 {
                    // By its number, which NFT_META_IIF and NFT_META_OIF have.
                    let key = MetaKey::Unknown(if key == MetaKey::InInterfaceName { 4 } else { 5 });
                    let data = number.to_ne_bytes().to_vec();
                    return vec![
                        Expression::Meta { register: ONE, key },
                        Expression::Cmp { register: ONE, op, data },
                    ];
                }
                let data = interface(name);
                vec![
                    Expression::Meta { register: ONE, key },
                    Expression::Cmp { register: ONE, op, data },
                ]
            }
            10 if self.older && self.family != FAMILY_INET && self.dice.below(2) == 0 => {
                older_form(self.dice)
            }
            10 => {
                let op = self.dice.of(&[Compare::Equal, Compare::NotEqual]);
                let data = fib::LOCAL.to_ne_bytes().to_vec();
                vec![
                    Expression::Fib { register: ONE, flags: fib::DESTINATION },
                    Expression::Cmp { register: ONE, op, data },
                ]
            }
            11 if ports => self.by_both(),
            12 if !self.tidy && self.dice.below(3) == 0 => vec![
                Expression::Meta { register: ONE, key: MetaKey::Mark },
                equal(1u32.to_ne_bytes().to_vec()),
            ],
            _ => Vec::new(),
        }
    }

    fn verdict(&mut self, helper: usize) -> Verdict {
        let next = helper..self.helpers;
        match self.dice.below(9) {
            0..=2 => Verdict::Accept,
            3 | 4 => Verdict::Drop,
            5 => Verdict::Return,
            _ if next.is_empty() => Verdict::Accept,
            8 => Verdict::Goto(format!("part-{}", next.start + self.dice.below(next.len()))),
            _ => Verdict::Jump(format!("part-{}", next.start + self.dice.below(next.len()))),
        }
    }

    fn act(&mut self, carried: Option<u8>, helper: usize) -> Vec<Expression> {
        match self.dice.below(14) {
            0 if carried == Some(6) => {
                vec![Expression::Reject { kind: RejectKind::TcpReset, code: 0 }]
            }
            0 if self.family == FAMILY_INET => {
                vec![Expression::Reject { kind: RejectKind::Unreachable, code: PROHIBITED }]
            }
            1 if !self.tidy => {
                // So many that nobody uses it up.
                let limit = Limit { rate: 1_000_000, unit: 1, burst: 1_000_000, kind: 0, flags: 0 };
                let end = self.verdict(helper);
                vec![Expression::Limit(limit), Expression::Immediate(end)]
            }
            2 if carried.is_some_and(|it| PROTOCOLS.contains(&it)) => {
                let mut keys: Vec<u16> = (0..3).map(|_| self.dice.of(&PORTS)).collect();
                keys.sort_unstable();
                keys.dedup();
                let elements: Vec<Element> = keys
                    .into_iter()
                    .map(|it| Element {
                        verdict: Some(self.verdict(helper)),
                        ..Element::key(it.to_be_bytes().to_vec())
                    })
                    .collect();
                let map = self.set(set_flags::MAP, 2, &elements);
                vec![port(), Self::lookup(&map, true, 0)]
            }
            3 => vec![
                Expression::Load { register: ONE, data: 1u32.to_ne_bytes().to_vec() },
                Expression::MetaSet { key: MetaKey::Mark, source: ONE },
            ],
            _ => vec![Expression::Immediate(self.verdict(helper))],
        }
    }
}
