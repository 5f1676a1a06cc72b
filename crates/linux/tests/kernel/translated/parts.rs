//! Parts of rules of others, and what tests of them have in common.

use crate::world::netfilter;
use std::collections::HashMap;
use std::net::IpAddr;
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::Rain;
use tipstaff_linux::translation::Traveller;
use tipstaff_linux::{deliver, flows};
use tipstaff_wire::nf_tables::{
    self as nf, Base, Batch, Compare, Expression, Hook, MetaKey, Rule, Verdict, ct,
};
use tipstaff_wire::packet::{Payload, build};

/// The kernel has no such part (errno(3)).
pub const ENOENT: i32 = 2;
pub const TCP: u8 = 6;
pub const UDP: u8 = 17;
/// Registers of four words each.
pub const ONE: u32 = 1;
pub const TWO: u32 = 2;
pub const OWN: [&str; 3] = ["192.0.2.10", "10.44.8.10", "2001:db8:2::10"];
pub const SOURCES: [&str; 5] =
    ["198.51.100.7", "198.51.100.130", "203.0.113.9", "2001:db8:51::7", "2001:db8:bad::9"];
pub const BEHIND: [&str; 4] = ["10.44.8.20", "10.44.8.30", "fd44:8::20", "fd44:8::30"];
pub const PORTS: [u16; 7] = [22, 80, 443, 8000, 8088, 8089, 9100];

/// Numbers that look as if there were no order in them (splitmix64).
pub struct Dice(pub u64);

impl Dice {
    pub fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        usize::try_from((z ^ (z >> 31)) % most as u64).expect("small")
    }

    pub fn of<T: Copy>(&mut self, all: &[T]) -> T {
        all[self.below(all.len())]
    }
}

pub fn octets(address: IpAddr) -> Vec<u8> {
    match address {
        IpAddr::V4(it) => it.octets().to_vec(),
        IpAddr::V6(it) => it.octets().to_vec(),
    }
}

pub fn equal(data: impl Into<Vec<u8>>) -> Expression {
    Expression::Cmp { register: ONE, op: Compare::Equal, data: data.into() }
}

pub fn protocol(number: u8) -> [Expression; 2] {
    [Expression::Meta { register: ONE, key: MetaKey::Protocol }, equal(vec![number])]
}

pub fn version(of: IpAddr) -> [Expression; 2] {
    let number = if of.is_ipv4() { 2 } else { 10 };
    [Expression::Meta { register: ONE, key: MetaKey::Family }, equal(vec![number])]
}

pub fn port() -> Expression {
    Expression::Payload { register: ONE, base: Base::Transport, offset: 2, length: 2 }
}

/// Loads an end of a packet of that version.
pub fn end(of: IpAddr, source: bool) -> Expression {
    let (offset, length) = match (of.is_ipv4(), source) {
        (true, true) => (12, 4),
        (true, false) => (16, 4),
        (false, true) => (8, 16),
        (false, false) => (24, 16),
    };
    Expression::Payload { register: ONE, base: Base::Network, offset, length }
}

/// Leads to an address, and to a port if there is one.
pub fn leads_to(to: IpAddr, port: Option<u16>) -> Vec<Expression> {
    let mut all = vec![Expression::Load { register: ONE, data: octets(to) }];
    if let Some(port) = port {
        all.push(Expression::Load { register: TWO, data: port.to_be_bytes().to_vec() });
    }
    let (first, last) = (port.map(|_| TWO), port.map(|_| TWO));
    all.push(Expression::Nat {
        kind: 1,
        family: if to.is_ipv4() { 2 } else { 10 },
        address: Some(ONE),
        last_address: Some(ONE),
        port: first,
        last_port: last,
        flags: 0,
    });
    all
}

/// To the one of a network that ends like the address that was asked for.
pub fn leads_to_network(first: IpAddr, bits: u32) -> Vec<Expression> {
    let last = match first {
        IpAddr::V4(it) => IpAddr::from((it.to_bits() | ((1 << bits) - 1)).to_be_bytes()),
        IpAddr::V6(it) => IpAddr::from((it.to_bits() | ((1 << bits) - 1)).to_be_bytes()),
    };
    let mut all = vec![Expression::Load { register: TWO, data: octets(last) }];
    all.extend(leads_to(first, None));
    if let Some(Expression::Nat { last_address, flags, .. }) = all.last_mut() {
        (*last_address, *flags) = (Some(TWO), nf::nat::PREFIX);
    }
    all
}

pub fn send(batch: Batch, doing: &str) {
    let batch = batch.finish().expect("fits");
    assert_eq!(deliver(&mut netfilter(), "try", &batch).expect("answered"), [], "{doing}");
}

/// Where the kernel led each packet, by the port that it came from; those that it kept out are missing.
pub fn led(host: &Node) -> HashMap<u16, (IpAddr, Option<u16>)> {
    let all = host.run(|| flows::flows(&mut netfilter())).expect("entered").expect("read");
    let of = |flow: &flows::Flow| Some((flow.ports?.0, flow.answers?));
    all.iter().filter_map(of).collect()
}

/// Connection tracking runs as long as some rule asks for it; and no answer comes, which could end what it remembers.
pub fn tracks() -> Batch {
    let mut batch = Batch::begin(1);
    batch.new_table(&nf::Table { name: "tracks".into(), ..nf::Table::default() });
    let mut chain = |name: &str, number, priority, expressions: Vec<Expression>| {
        batch.new_chain(&nf::Chain {
            table: "tracks".into(),
            name: name.into(),
            kind: Some("filter".into()),
            hook: Some(Hook { number, priority }),
            policy: Some(1),
            ..nf::Chain::default()
        });
        batch.new_rule(&Rule {
            table: "tracks".into(),
            chain: name.into(),
            expressions,
            ..Rule::default()
        });
    };
    let asks = [
        Expression::Ct { register: ONE, key: ct::STATE },
        Expression::Counter { packets: 0, bytes: 0 },
    ];
    chain("in", Hook::LOCAL_IN, 0, asks.into());
    let drop = || Expression::Immediate(Verdict::Drop);
    chain("out", Hook::LOCAL_OUT, -300, protocol(TCP).into_iter().chain([drop()]).collect());
    let mut name = b"eth1".to_vec();
    name.resize(16, 0);
    let by =
        [Expression::Meta { register: ONE, key: MetaKey::InInterfaceName }, equal(name), drop()];
    chain("back", Hook::PRE_ROUTING, -300, by.into());
    batch
}

/// Sends the first packets of some travellers.
pub fn rained(rain: &Rain, travellers: &[Traveller]) {
    for it in travellers {
        let (source, destination) = it.ports.expect("ports");
        let payload = match it.protocol {
            TCP => Payload::Tcp { source, destination, flags: 2 },
            _ => Payload::Udp { source, destination },
        };
        rain.send(&build(it.source, it.destination, payload, 1));
    }
}

/// Leads to an address, at one of some ports: its own, if that is among them.
pub fn leads_to_some(to: IpAddr, one: u16, other: u16) -> Vec<Expression> {
    let (first, last) = (one.min(other), one.max(other));
    let mut all = leads_to(to, Some(first));
    let third = 3;
    all.insert(2, Expression::Load { register: third, data: last.to_be_bytes().to_vec() });
    if let Some(Expression::Nat { last_port, .. }) = all.last_mut() {
        *last_port = Some(third);
    }
    all
}

/// Holds for every second packet, as chance has it: `NFTA_NG_DREG`, `_MODULUS`, `_TYPE` (linux/netfilter/nf_tables.h).
pub fn chance() -> [Expression; 2] {
    let parts = [[8, 0, 1, 0, 0, 0, 0, 1], [8, 0, 2, 0, 0, 0, 0, 2], [8, 0, 3, 0, 0, 0, 0, 1]];
    let random = Expression::Other { name: "numgen".into(), data: parts.concat() };
    [random, equal(0u32.to_ne_bytes())]
}
