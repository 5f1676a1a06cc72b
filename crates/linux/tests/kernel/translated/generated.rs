//! Tables of others, from a seed.

use super::parts::*;
use std::net::IpAddr;
use tipstaff_linux::lab::testing::address;
use tipstaff_wire::nf_tables::{
    self as nf, Batch, Compare, Element, Expression, Hook, MetaKey, Rule, Verdict, fib, set_flags,
};

/// A test of packets, as rules have them.
pub fn test(dice: &mut Dice, set: &nf::Set, pool: &nf::Set) -> Vec<Expression> {
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
    match dice.below(12) {
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
        5 => masked_source(dice),
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
        10 => {
            // Single bits: no address stands for others by these.
            let source = address(SOURCES[0]);
            let last = Expression::Bitwise {
                source: ONE,
                destination: ONE,
                length: 4,
                mask: vec![0, 0, 0, 6],
                xor: vec![0; 4],
            };
            let bits = [end(source, true), last, equal([0, 0, 0, 2])];
            version(source).into_iter().chain(bits).collect()
        }
        _ => {
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

/// Whether a packet comes from a network.
fn masked_source(dice: &mut Dice) -> Vec<Expression> {
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

/// What a rule does with those whom it is about.
pub fn act(dice: &mut Dice, chain: usize, chains: usize, map: &nf::Set) -> Vec<Expression> {
    let to = address(dice.of(&BEHIND));
    let versioned =
        |to: IpAddr, rest: Vec<Expression>| version(to).into_iter().chain(rest).collect::<Vec<_>>();
    match dice.below(13) {
        11 => versioned(to, leads_to_network(to, [1, 3, 8][dice.below(3)])),
        0..=2 => versioned(to, leads_to(to, None)),
        3 => versioned(to, leads_to(to, Some(dice.of(&PORTS)))),
        4 => versioned(to, leads_to_some(to, dice.of(&PORTS), dice.of(&PORTS))),
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
        8 => {
            let verdict = match dice.below(4) {
                0 => Verdict::Accept,
                1 => Verdict::Drop,
                _ => Verdict::Return,
            };
            vec![Expression::Immediate(verdict)]
        }
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

pub fn set(table: &str, name: &str, id: u32, flags: u32) -> nf::Set {
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
pub fn table(dice: &mut Dice, batch: &mut Batch, name: &str, first_set: u32) {
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
        hook: Some(Hook { number: Hook::PRE_ROUTING, priority: dice.of(&[-300, -150, -50]) }),
        policy: Some(1),
        ..nf::Chain::default()
    });
    for at in 0..chains {
        for _ in 0..1 + dice.below(4) {
            let mut expressions: Vec<Expression> = protocol(dice.of(&[TCP, UDP])).into();
            for _ in 0..dice.below(3) {
                expressions.extend(test(dice, &some, &pool));
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
    marks(dice, batch, name, (&some, &pool));
}

/// Rules of the chain that marks packets, or has them let alone.
fn marks(dice: &mut Dice, batch: &mut Batch, name: &str, (some, pool): (&nf::Set, &nf::Set)) {
    for _ in 0..1 + dice.below(2) {
        let mut expressions: Vec<Expression> = protocol(dice.of(&[TCP, UDP])).into();
        expressions.extend(test(dice, some, pool));
        if dice.below(4) == 0 {
            expressions.extend(chance());
        }
        if dice.below(3) == 0 {
            // Of use only ahead of connection tracking.
            expressions.push(Expression::Other { name: "notrack".into(), data: Vec::new() });
        } else {
            expressions.push(Expression::Load { register: ONE, data: 1u32.to_ne_bytes().to_vec() });
            expressions.push(Expression::MetaSet { key: MetaKey::Mark, source: ONE });
        }
        batch.new_rule(&Rule {
            table: name.into(),
            chain: "marks".into(),
            expressions,
            ..Rule::default()
        });
    }
}
