//! Tables of others, and what their rules are made of.

use std::net::IpAddr;
use tipstaff_linux::lab::testing::address;
use tipstaff_wire::nf_tables::{
    self as nf, Base, Batch, Compare, Element, Expression as E, Hook, MetaKey,
};

pub const TCP: u8 = 6;
pub const UDP: u8 = 17;
pub const ONE: u32 = 1;
pub const TWO: u32 = 2;

pub fn eq(data: impl Into<Vec<u8>>) -> E {
    E::Cmp { register: ONE, op: Compare::Equal, data: data.into() }
}

pub fn protocol(number: u8) -> Vec<E> {
    vec![E::Meta { register: ONE, key: MetaKey::Protocol }, eq([number])]
}

pub fn version(number: u8) -> Vec<E> {
    vec![E::Meta { register: ONE, key: MetaKey::Family }, eq([number])]
}

pub fn load_port() -> E {
    E::Payload { register: ONE, base: Base::Transport, offset: 2, length: 2 }
}

pub fn port(number: u16) -> Vec<E> {
    vec![load_port(), eq(number.to_be_bytes())]
}

pub fn by(link: &str) -> Vec<E> {
    let mut name = link.as_bytes().to_vec();
    name.resize(16, 0);
    vec![E::Meta { register: ONE, key: MetaKey::InInterfaceName }, eq(name)]
}

pub fn at(own: [u8; 4]) -> Vec<E> {
    vec![E::Payload { register: ONE, base: Base::Network, offset: 16, length: 4 }, eq(own)]
}

pub fn to(target: &str, port: Option<u16>) -> Vec<E> {
    let target = address(target);
    let (family, data) = match target {
        IpAddr::V4(it) => (2, it.octets().to_vec()),
        IpAddr::V6(it) => (10, it.octets().to_vec()),
    };
    let mut all = vec![E::Load { register: ONE, data }];
    all.extend(port.map(|it| E::Load { register: TWO, data: it.to_be_bytes().to_vec() }));
    let port = port.map(|_| TWO);
    all.push(E::Nat {
        kind: 1,
        family,
        address: Some(ONE),
        last_address: Some(ONE),
        port,
        last_port: port,
        flags: 0,
    });
    all
}

/// To the address of a network that ends like the one asked for.
pub fn to_network(first: &str, last: &str) -> Vec<E> {
    let octets = match address(last) {
        IpAddr::V4(it) => it.octets().to_vec(),
        IpAddr::V6(it) => it.octets().to_vec(),
    };
    let mut all = vec![E::Load { register: TWO, data: octets }];
    all.extend(to(first, None));
    if let Some(E::Nat { last_address, flags, .. }) = all.last_mut() {
        (*last_address, *flags) = (Some(TWO), nf::nat::PREFIX);
    }
    all
}

pub fn here(port: u16) -> Vec<E> {
    vec![
        E::Load { register: ONE, data: port.to_be_bytes().to_vec() },
        E::Redirect { port: Some(ONE), last_port: Some(ONE), flags: 2 },
    ]
}

/// Somebody's table, with a chain that translates.
pub struct Table {
    pub batch: Batch,
    pub name: &'static str,
}

impl Table {
    pub fn new(name: &'static str, priority: i32) -> Self {
        let mut batch = Batch::begin(1);
        batch.new_table(&nf::Table { name: name.into(), ..nf::Table::default() });
        let mut table = Self { batch, name };
        table.chain("porter", "nat", Some((Hook::PRE_ROUTING, priority)));
        table
    }

    pub fn chain(&mut self, name: &str, kind: &str, hook: Option<(u32, i32)>) {
        self.batch.new_chain(&nf::Chain {
            table: self.name.into(),
            name: name.into(),
            kind: hook.map(|_| kind.into()),
            hook: hook.map(|(number, priority)| Hook { number, priority }),
            policy: hook.map(|_| 1),
            ..nf::Chain::default()
        });
    }

    pub fn rule(&mut self, chain: &str, parts: &[Vec<E>]) -> &mut Self {
        self.batch.new_rule(&nf::Rule {
            table: self.name.into(),
            chain: chain.into(),
            expressions: parts.concat(),
            ..nf::Rule::default()
        });
        self
    }

    pub fn set(&mut self, name: &str, id: u32, flags: u32, elements: &[Element]) -> nf::Set {
        let set = nf::Set {
            table: self.name.into(),
            name: name.into(),
            flags,
            key_length: 2,
            id,
            verdicts: elements.iter().any(|it| it.verdict.is_some()),
            numbers: elements.iter().any(|it| it.number.is_some()),
            ..nf::Set::default()
        };
        self.batch.new_set(&set);
        self.batch.new_elements(&set, elements);
        set
    }
}

/// One table with one rule.
pub fn one(parts: &[Vec<E>]) -> Vec<Table> {
    let mut table = Table::new("almanac", -100);
    table.rule("porter", parts);
    vec![table]
}
