//! Where packets go that others translate: what is told of their rules, and what the kernel does.

mod generated;
pub mod older;
pub mod parts;

use crate::world::netfilter;
use generated::table;
use parts::*;
use std::net::IpAddr;
use tipstaff_linux::lab::testing::{Rain, address, sealed, street_sluice_granary};
use tipstaff_linux::translation::{Course, Translations, Traveller};
use tipstaff_linux::{Here, Machine as _, flows};
use tipstaff_wire::nf_tables::{self as nf, Batch, Expression, Hook, Rule, Verdict};

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
            let travellers = travellers(&mut dice, &own, &mut from);
            rained(&rain, &travellers);
            let led = led(host);
            for it in &travellers {
                let (source, port) = it.ports.expect("ports");
                let there = led.get(&source).copied();
                let said = told.course(it);
                let stands = standing(&told, it);
                assert!(
                    alike((&said, it), (&told.course(&stands), &stands)),
                    "seed {seed}: {it:?}, and for it {stands:?}"
                );
                let so = match &said {
                    // Nothing is remembered of what is let alone.
                    Course::AsItIs => there.is_none_or(|is| is == (it.destination, Some(port))),
                    Course::Translated { to, port, .. } => there == Some((*to, *port)),
                    Course::KeptOut(_) => there.is_none(),
                    Course::Unknown { .. } => true,
                };
                translated += usize::from(matches!(said, Course::Translated { .. }));
                kept_out += usize::from(matches!(said, Course::KeptOut(_)));
                unknown += usize::from(matches!(said, Course::Unknown { .. }));
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
        assert!(translated * 5 > sent && unknown * 4 < sent, "{sent}: {translated}, {unknown}");
    });
}

/// Who is kept out by single bits of his address, which are not followed, is not led elsewhere by who comes later.
#[test]
fn what_may_be_kept_out_is_not_told_to_be_led() {
    sealed("translated::what_may_be_kept_out_is_not_told_to_be_led", || {
        let lab = street_sluice_granary();
        let host = lab.node("sluice").expect("it");
        let bits = vec![
            end(address("192.0.2.10"), true),
            Expression::Bitwise {
                source: ONE,
                destination: ONE,
                length: 4,
                mask: vec![0, 0, 0, 6],
                xor: vec![0; 4],
            },
            equal([0, 0, 0, 2]),
            Expression::Immediate(Verdict::Drop),
        ];
        let keeps = [protocol(TCP).to_vec(), version(address("192.0.2.10")).to_vec(), bits];
        let granary = address("10.44.8.20");
        let leads = [version(granary).to_vec(), leads_to(granary, None)];
        let mut batch = Batch::begin(1);
        for (name, priority, rule) in
            [("early", -110, keeps.concat()), ("late", -100, leads.concat())]
        {
            batch.new_table(&nf::Table { name: name.into(), ..nf::Table::default() });
            batch.new_chain(&nf::Chain {
                table: name.into(),
                name: "first".into(),
                kind: Some("nat".into()),
                hook: Some(Hook { number: Hook::PRE_ROUTING, priority }),
                policy: Some(1),
                ..nf::Chain::default()
            });
            let (table, chain) = (name.into(), "first".into());
            batch.new_rule(&Rule { table, chain, expressions: rule, ..Rule::default() });
        }
        let read = || {
            send(batch, "two tables");
            Translations::read(&mut netfilter(), Here.links().expect("read"))
        };
        let told = host.run(read).expect("entered").expect("read");
        let of = |protocol: u8| Traveller {
            in_interface: Some("eth0".into()),
            source: address("198.51.100.130"),
            destination: address("192.0.2.10"),
            protocol,
            ports: Some((40_000, 80)),
        };
        let Course::Unknown { by, .. } = told.course(&of(TCP)) else {
            panic!("{:?}", told.course(&of(TCP)));
        };
        assert_eq!(by.table, "early");
        assert!(matches!(told.course(&of(UDP)), Course::Translated { .. }));
    });
}

/// Some who come from outside, each from a port of its own.
fn travellers(dice: &mut Dice, own: &[IpAddr], from: &mut u16) -> Vec<Traveller> {
    let one = |dice: &mut Dice, from: u16| {
        let source = address(dice.of(&SOURCES));
        let at: Vec<IpAddr> =
            own.iter().copied().filter(|it| it.is_ipv4() == source.is_ipv4()).collect();
        Traveller {
            in_interface: Some("eth0".into()),
            source,
            destination: dice.of(&at),
            protocol: dice.of(&[TCP, UDP]),
            ports: Some((from, dice.of(&PORTS))),
        }
    };
    (0..40)
        .map(|_| {
            *from = from.checked_add(1).unwrap_or(1_024);
            one(dice, *from)
        })
        .collect()
}

/// Who stands for a traveller: the first port and the first sender of those that nothing tells apart from its own.
fn standing(told: &Translations, it: &Traveller) -> Traveller {
    let (from, to) = it.ports.expect("ports");
    let port = *told.ports().range(..=to).next_back().expect("from 0 on");
    let bits = |it: IpAddr| match it {
        IpAddr::V4(it) => u128::from(it.to_bits()),
        IpAddr::V6(it) => it.to_bits(),
    };
    let mut first = 0;
    for set in told.sources() {
        let v4 = set.v4.ranges().iter().map(|it| (u128::from(it.0), u128::from(it.1)));
        let v6 = set.v6.ranges().iter().copied();
        let ranges: Vec<(u128, u128)> =
            if it.source.is_ipv4() { v4.collect() } else { v6.collect() };
        for start in ranges.into_iter().flat_map(|it| [it.0, it.1.saturating_add(1)]) {
            if start <= bits(it.source) {
                first = first.max(start);
            }
        }
    }
    let source = match it.source {
        IpAddr::V4(_) => IpAddr::V4(u32::try_from(first).expect("IPv4").into()),
        IpAddr::V6(_) => IpAddr::V6(first.into()),
    };
    Traveller { source, ports: Some((from, port)), ..it.clone() }
}

/// Whether two travellers fare alike: they are led to the same port, or each to its own.
fn alike((one, it): (&Course, &Traveller), (other, that): (&Course, &Traveller)) -> bool {
    let own = |traveller: &Traveller| traveller.ports.map(|it| it.1);
    match (one, other) {
        (
            Course::Translated { to, port, by },
            Course::Translated { to: there, port: its, by: who },
        ) => (to, by) == (there, who) && (port == its || (*port == own(it) && *its == own(that))),
        _ => one == other,
    }
}
