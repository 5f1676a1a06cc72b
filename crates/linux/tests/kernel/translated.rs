//! Where packets go that others translate: what is told of their rules, and what the kernel does.

use crate::world::netfilter;
use std::collections::HashMap;
use std::net::IpAddr;
use tipstaff_linux::lab::Node;
use tipstaff_linux::lab::testing::{Rain, address, sealed, street_sluice_granary};
use tipstaff_linux::translation::{Course, Translations, Traveller};
use tipstaff_linux::{Here, Machine as _, deliver, flows};
use tipstaff_wire::nf_tables::{
    self as nf, Base, Batch, Compare, Element, Expression, Hook, MetaKey, Rule, Verdict, ct, fib,
    set_flags,
};
use tipstaff_wire::packet::{Payload, build};

const TCP: u8 = 6;
const UDP: u8 = 17;
/// Registers of four words each.
const ONE: u32 = 1;
const TWO: u32 = 2;
const OWN: [&str; 3] = ["192.0.2.10", "10.44.8.10", "2001:db8:2::10"];
const SOURCES: [&str; 5] =
    ["198.51.100.7", "198.51.100.130", "203.0.113.9", "2001:db8:51::7", "2001:db8:bad::9"];
const BEHIND: [&str; 4] = ["10.44.8.20", "10.44.8.30", "fd44:8::20", "fd44:8::30"];
const PORTS: [u16; 7] = [22, 80, 443, 8000, 8088, 8089, 9100];

/// Numbers that look as if there were no order in them (splitmix64).
struct Dice(u64);

impl Dice {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        usize::try_from((z ^ (z >> 31)) % most as u64).expect("small")
    }

    fn of<T: Copy>(&mut self, all: &[T]) -> T {
        all[self.below(all.len())]
    }
}

fn octets(address: IpAddr) -> Vec<u8> {
    match address {
        IpAddr::V4(it) => it.octets().to_vec(),
        IpAddr::V6(it) => it.octets().to_vec(),
    }
}

fn equal(data: Vec<u8>) -> Expression {
    Expression::Cmp { register: ONE, op: Compare::Equal, data }
}

fn protocol(number: u8) -> [Expression; 2] {
    [Expression::Meta { register: ONE, key: MetaKey::Protocol }, equal(vec![number])]
}

fn version(of: IpAddr) -> [Expression; 2] {
    let number = if of.is_ipv4() { 2 } else { 10 };
    [Expression::Meta { register: ONE, key: MetaKey::Family }, equal(vec![number])]
}

fn port() -> Expression {
    Expression::Payload { register: ONE, base: Base::Transport, offset: 2, length: 2 }
}

/// Loads an end of a packet of that version.
fn end(of: IpAddr, source: bool) -> Expression {
    let (offset, length) = match (of.is_ipv4(), source) {
        (true, true) => (12, 4),
        (true, false) => (16, 4),
        (false, true) => (8, 16),
        (false, false) => (24, 16),
    };
    Expression::Payload { register: ONE, base: Base::Network, offset, length }
}

/// Leads to an address, and to a port if there is one.
fn leads_to(to: IpAddr, port: Option<u16>) -> Vec<Expression> {
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

/// A test of packets, as rules have them.
fn test(dice: &mut Dice, at: IpAddr, set: &nf::Set, pool: &nf::Set) -> Vec<Expression> {
    let of_port = |op, port: u16| {
        vec![self::port(), Expression::Cmp { register: ONE, op, data: port.to_be_bytes().to_vec() }]
    };
    let lookup = |set: &nf::Set, flags| Expression::Lookup {
        set: set.name.clone(),
        register: ONE,
        to_verdict: false,
        id: set.id,
        flags,
    };
    match dice.below(11) {
        0 => of_port(Compare::Equal, dice.of(&PORTS)),
        1 => of_port(Compare::NotEqual, dice.of(&PORTS)),
        2 => of_port(Compare::Less, dice.of(&PORTS)),
        3 => of_port(Compare::Unknown(4), dice.of(&PORTS)),
        4 => {
            let (from, to) = (dice.of(&PORTS), dice.of(&PORTS));
            let (from, to) =
                (from.min(to).to_be_bytes().to_vec(), from.max(to).to_be_bytes().to_vec());
            vec![
                port(),
                Expression::Range {
                    register: ONE,
                    op: dice.of(&[Compare::Equal, Compare::NotEqual]),
                    from,
                    to,
                },
            ]
        }
        5 => {
            let source = address(dice.of(&SOURCES));
            let whole = octets(source).len();
            let kept = if source.is_ipv4() { dice.of(&[1, 3, 4]) } else { dice.of(&[4, 8, 16]) };
            let mut mask = vec![255; kept];
            mask.resize(whole, 0);
            let mut data = octets(source);
            data[kept..].fill(0);
            let masked = Expression::Bitwise {
                source: ONE,
                destination: ONE,
                length: u32::try_from(whole).expect("small"),
                mask,
                xor: vec![0; whole],
            };
            let op = dice.of(&[Compare::Equal, Compare::NotEqual]);
            version(source)
                .into_iter()
                .chain([end(source, true), masked, Expression::Cmp { register: ONE, op, data }])
                .collect()
        }
        6 => {
            let own = address(dice.of(&OWN));
            version(own).into_iter().chain([end(own, false), equal(octets(own))]).collect()
        }
        7 => vec![
            Expression::Fib { register: ONE, flags: fib::DESTINATION },
            equal(fib::LOCAL.to_ne_bytes().to_vec()),
        ],
        8 => vec![port(), lookup(set, u32::from(dice.below(2) == 0))],
        9 => vec![port(), lookup(pool, 0)],
        _ => {
            let _ = at;
            let key = dice.of(&[MetaKey::Mark, MetaKey::InInterfaceName]);
            let mut name = b"eth0".to_vec();
            name.resize(16, 0);
            let data = if key == MetaKey::Mark {
                u32::from(dice.below(2) == 0).to_ne_bytes().to_vec()
            } else {
                name
            };
            vec![Expression::Meta { register: ONE, key }, equal(data)]
        }
    }
}

/// What a rule does with those whom it is about.
fn act(dice: &mut Dice, chain: usize, chains: usize, map: &nf::Set) -> Vec<Expression> {
    let to = address(dice.of(&BEHIND));
    let versioned =
        |to: IpAddr, rest: Vec<Expression>| version(to).into_iter().chain(rest).collect::<Vec<_>>();
    match dice.below(12) {
        0..=2 => versioned(to, leads_to(to, None)),
        3 | 4 => versioned(to, leads_to(to, Some(dice.of(&PORTS)))),
        5 => {
            let own = address(dice.of(&OWN));
            versioned(own, leads_to(own, Some(dice.of(&PORTS))))
        }
        6 => vec![
            Expression::Load { register: ONE, data: dice.of(&PORTS).to_be_bytes().to_vec() },
            Expression::Redirect { port: Some(ONE), last_port: Some(ONE), flags: 2 },
        ],
        7 if chain + 1 < chains => {
            let to = format!("part-{}", chain + 1 + dice.below(chains - chain - 1));
            let verdict = if dice.below(2) == 0 { Verdict::Jump(to) } else { Verdict::Goto(to) };
            vec![Expression::Immediate(verdict)]
        }
        8 => vec![Expression::Immediate(dice.of(&[0, 1, 2, 2]).pipe(|it| match it {
            0 => Verdict::Accept,
            1 => Verdict::Drop,
            _ => Verdict::Return,
        }))],
        9 => {
            // By a map, from ports to addresses.
            let v4 = address(BEHIND[0]);
            versioned(
                v4,
                vec![
                    port(),
                    Expression::Find {
                        set: map.name.clone(),
                        register: ONE,
                        destination: ONE,
                        id: map.id,
                    },
                    Expression::Nat {
                        kind: 1,
                        family: 2,
                        address: Some(ONE),
                        last_address: Some(ONE),
                        port: None,
                        last_port: None,
                        flags: 0,
                    },
                ],
            )
        }
        10 => vec![
            Expression::Load { register: ONE, data: 1u32.to_ne_bytes().to_vec() },
            Expression::MetaSet { key: MetaKey::Mark, source: ONE },
        ],
        _ => vec![Expression::Counter { packets: 0, bytes: 0 }],
    }
}

trait Pipe: Sized {
    fn pipe<T>(self, of: impl FnOnce(Self) -> T) -> T {
        of(self)
    }
}

impl<T> Pipe for T {}

fn set(table: &str, name: &str, id: u32, flags: u32) -> nf::Set {
    nf::Set {
        table: table.into(),
        name: name.into(),
        flags,
        key_length: 2,
        id,
        ..nf::Set::default()
    }
}

/// One table of somebody's: chains that lead to each other, with sets and a map.
fn table(dice: &mut Dice, batch: &mut Batch, name: &str, first_set: u32) {
    batch.new_table(&nf::Table { name: name.into(), ..nf::Table::default() });
    let bytes = |it: u16| it.to_be_bytes().to_vec();
    let some = set(name, "some", first_set, set_flags::CONSTANT);
    batch.new_set(&some);
    let mut keys: Vec<u16> = (0..3).map(|_| dice.of(&PORTS)).collect();
    keys.sort_unstable();
    keys.dedup();
    batch.new_elements(&some, &keys.iter().map(|it| Element::key(bytes(*it))).collect::<Vec<_>>());
    let pool = set(name, "pool", first_set + 1, set_flags::INTERVAL);
    batch.new_set(&pool);
    batch.new_elements(
        &pool,
        &[
            Element::end(bytes(0)),
            Element::key(bytes(80)),
            Element::end(bytes(444)),
            Element::key(bytes(8088)),
            Element::end(bytes(8090)),
        ],
    );
    let map = nf::Set { numbers: true, ..set(name, "whither", first_set + 2, set_flags::MAP) };
    batch.new_set(&map);
    let leads = |port: u16, to: &str| Element {
        number: Some(u32::from_ne_bytes(octets(address(to)).try_into().expect("IPv4"))),
        ..Element::key(bytes(port))
    };
    batch.new_elements(&map, &[leads(80, BEHIND[0]), leads(8088, BEHIND[1])]);
    let chains = 1 + dice.below(4);
    for at in (0..chains).rev() {
        let base = at == 0;
        batch.new_chain(&nf::Chain {
            table: name.into(),
            name: format!("part-{at}"),
            kind: base.then(|| "nat".into()),
            hook: base
                .then(|| Hook { number: Hook::PRE_ROUTING, priority: dice.of(&[-101, -100, -99]) }),
            policy: base.then_some(1),
            ..nf::Chain::default()
        });
    }
    // Something that marks packets ahead of it.
    batch.new_chain(&nf::Chain {
        table: name.into(),
        name: "marks".into(),
        kind: Some("filter".into()),
        hook: Some(Hook { number: Hook::PRE_ROUTING, priority: dice.of(&[-150, -50]) }),
        policy: Some(1),
        ..nf::Chain::default()
    });
    let own = address(OWN[0]);
    for at in 0..chains {
        for _ in 0..1 + dice.below(4) {
            let mut expressions: Vec<Expression> = protocol(dice.of(&[TCP, UDP])).into();
            for _ in 0..dice.below(3) {
                expressions.extend(test(dice, own, &some, &pool));
            }
            expressions.extend(act(dice, at, chains, &map));
            batch.new_rule(&Rule {
                table: name.into(),
                chain: format!("part-{at}"),
                expressions,
                ..Rule::default()
            });
        }
    }
    let mut expressions: Vec<Expression> = protocol(dice.of(&[TCP, UDP])).into();
    expressions.extend(test(dice, own, &some, &pool));
    expressions.push(Expression::Load { register: ONE, data: 1u32.to_ne_bytes().to_vec() });
    expressions.push(Expression::MetaSet { key: MetaKey::Mark, source: ONE });
    batch.new_rule(&Rule {
        table: name.into(),
        chain: "marks".into(),
        expressions,
        ..Rule::default()
    });
}

fn send(batch: Batch, doing: &str) {
    let batch = batch.finish().expect("fits");
    assert_eq!(deliver(&mut netfilter(), "try", &batch).expect("answered"), [], "{doing}");
}

/// Where the kernel led each packet, by the port that it came from; those that it kept out are missing.
fn led(host: &Node) -> HashMap<u16, (IpAddr, Option<u16>)> {
    let all = host.run(|| flows::flows(&mut netfilter())).expect("entered").expect("read");
    let of = |flow: &flows::Flow| Some((flow.ports?.0, flow.answers?));
    all.iter().filter_map(of).collect()
}

#[test]
fn what_is_told_is_what_the_kernel_does() {
    sealed("translated::what_is_told_is_what_the_kernel_does", || {
        let lab = street_sluice_granary();
        let (host, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let rain = Rain::open((host, "eth0"), (street, "eth0"));
        let own: Vec<IpAddr> = OWN.iter().map(|it| address(it)).collect();
        let (mut sent, mut translated, mut kept_out, mut unknown) = (0, 0, 0, 0);
        let sets = if std::env::var_os("TIPSTAFF_LONG").is_some() { 1_500 } else { 200 };
        let mut from = 1_024u16;
        for seed in 0..sets {
            let mut dice = Dice(seed);
            let mut batch = Batch::begin(1);
            let tables: &[&str] =
                if dice.below(2) == 0 { &["porter"] } else { &["porter", "ferry"] };
            for (at, name) in tables.iter().enumerate() {
                table(&mut dice, &mut batch, name, 1 + 10 * u32::try_from(at).expect("small"));
            }
            let told = host
                .run(|| {
                    // Whatever is tracked at all is tracked by rules that ask for it.
                    send(tracks(), "tracking");
                    send(batch, &format!("seed {seed}"));
                    Translations::read(&mut netfilter(), Here.links().expect("read"))
                })
                .expect("entered")
                .expect("read");
            let mut travellers = Vec::new();
            for _ in 0..40 {
                let source = address(dice.of(&SOURCES));
                let at = own
                    .iter()
                    .copied()
                    .filter(|it| it.is_ipv4() == source.is_ipv4())
                    .collect::<Vec<_>>();
                from = from.checked_add(1).unwrap_or(1_024);
                travellers.push(Traveller {
                    in_interface: Some("eth0".into()),
                    source,
                    destination: dice.of(&at),
                    protocol: dice.of(&[TCP, UDP]),
                    ports: Some((from, dice.of(&PORTS))),
                });
            }
            for it in &travellers {
                let (source, destination) = it.ports.expect("ports");
                let payload = match it.protocol {
                    TCP => Payload::Tcp { source, destination, flags: 2 },
                    _ => Payload::Udp { source, destination },
                };
                rain.send(&build(it.source, it.destination, payload, 1));
            }
            let led = led(host);
            for it in &travellers {
                let (source, port) = it.ports.expect("ports");
                let there = led.get(&source).copied();
                let said = told.course(it);
                let so = match &said {
                    Course::AsItIs => there == Some((it.destination, Some(port))),
                    Course::Translated { to, port, .. } => {
                        translated += 1;
                        there == Some((*to, *port))
                    }
                    Course::KeptOut(_) => {
                        kept_out += 1;
                        there.is_none()
                    }
                    Course::Unknown { .. } => {
                        unknown += 1;
                        true
                    }
                };
                if !so {
                    eprintln!("{told:?}");
                }
                assert!(so, "seed {seed}: {it:?}: {said:?}, and the kernel: {there:?}");
                sent += 1;
            }
            let end = || {
                let mut batch = Batch::begin(1);
                for it in tables.iter().chain(&["tracks"]) {
                    batch.delete_table(it);
                }
                send(batch, "taken away");
                for flow in flows::flows(&mut netfilter()).expect("read") {
                    flows::forget(&mut netfilter(), &flow).expect("forgotten");
                }
            };
            host.run(end).expect("entered");
        }
        println!(
            "{sent} packets: {translated} translated, {kept_out} kept out, {unknown} not known"
        );
        assert!(translated * 5 > sent && unknown * 10 < sent, "{sent}: {translated}, {unknown}");
    });
}

/// Connection tracking runs as long as some rule asks for it; and no answer comes, which could end what it remembers.
fn tracks() -> Batch {
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
