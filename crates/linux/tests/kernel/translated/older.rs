//! Rules in the form of the kernel's older packet filter, which its newer one carries.

use super::parts::*;
use crate::world::netfilter;
use tipstaff_linux::lab::testing::{Rain, address, sealed, street_sluice_granary};
use tipstaff_linux::translation::{Course, Translations, Traveller};
use tipstaff_linux::{Here, Machine as _, deliver};
use tipstaff_wire::nf_tables::{self as nf, Batch, Compare, Expression, Hook, Rule, Verdict};

/// A part of a rule in the form of the older packet filter: its name, revision and what it is about.
pub fn older(kind: &str, name: &str, revision: u32, info: &[u8]) -> Expression {
    let mut data = Vec::new();
    let mut attribute = |kind: u16, bytes: &[u8]| {
        let length = u16::try_from(bytes.len() + 4).expect("small");
        data.extend(length.to_ne_bytes());
        data.extend(kind.to_ne_bytes());
        data.extend(bytes);
        data.resize(data.len().next_multiple_of(4), 0);
    };
    attribute(1, &[name.as_bytes(), &[0]].concat());
    attribute(2, &revision.to_be_bytes());
    attribute(3, info);
    Expression::Other { name: kind.into(), data }
}

/// Makes the messages of a batch about tables for IPv4 only, as those in the older form are: `nfgen_family`
/// (linux/netfilter/nfnetlink.h) is the first byte behind a message's header.
fn for_v4_only(bytes: &mut [u8]) {
    let mut at = 0;
    while at + 20 <= bytes.len() {
        let number = |at: usize| u32::from_ne_bytes(bytes[at..at + 4].try_into().expect("four"));
        let length = usize::try_from(number(at)).expect("small");
        if bytes[at + 16] == 1 {
            bytes[at + 16] = 2;
        }
        at += length.next_multiple_of(4);
    }
}

/// Ports published as programs do that still write rules in the older form.
fn published_the_older_way() -> Batch {
    let host =
        |numbers: &[u16]| numbers.iter().flat_map(|it| it.to_ne_bytes()).collect::<Vec<u8>>();
    let mut batch = Batch::begin(1);
    batch.new_table(&nf::Table { name: "nat".into(), ..nf::Table::default() });
    let mut chain = |name: &str, base: bool| {
        batch.new_chain(&nf::Chain {
            table: "nat".into(),
            name: name.into(),
            kind: base.then(|| "nat".into()),
            hook: base.then_some(Hook { number: Hook::PRE_ROUTING, priority: -100 }),
            policy: base.then_some(1),
            ..nf::Chain::default()
        });
    };
    chain("ports", false);
    chain("in", true);
    let mut rule = |chain: &str, expressions: Vec<Expression>| {
        let (table, chain) = ("nat".into(), chain.into());
        batch.new_rule(&Rule { table, chain, expressions, ..Rule::default() });
    };
    // struct xt_addrtype_info_v1: to an address of its own.
    let own = [host(&[0, 1 << 2]), 0u32.to_ne_bytes().to_vec()].concat();
    let jump = Expression::Immediate(Verdict::Jump("ports".into()));
    rule("in", vec![older("match", "addrtype", 1, &own), jump]);
    // struct nf_nat_range2: flags, first and last address, first and last port, and where counting begins.
    let range = |to: [u8; 4], port: u16| {
        let mut info = 3u32.to_ne_bytes().to_vec();
        for _ in 0..2 {
            info.extend(to);
            info.extend([0; 12]);
        }
        info.extend([port.to_be_bytes(), port.to_be_bytes(), [0, 0]].concat());
        // Such parts are as long as a multiple of eight (XT_ALIGN).
        info.resize(48, 0);
        info
    };
    let from_to = |first: u16, last: u16| {
        let (from, to) = (first.to_be_bytes().to_vec(), last.to_be_bytes().to_vec());
        [port(), Expression::Range { register: ONE, op: Compare::Equal, from, to }]
    };
    let leads = |to, port| older("target", "DNAT", 2, &range(to, port));
    rule(
        "ports",
        protocol(TCP)
            .into_iter()
            .chain(from_to(8088, 8089))
            .chain([leads([10, 44, 8, 20], 80)])
            .collect(),
    );
    rule(
        "ports",
        protocol(UDP)
            .into_iter()
            .chain(from_to(22, 443))
            .chain([leads([10, 44, 8, 30], 53)])
            .collect(),
    );
    batch
}

#[test]
fn what_is_written_in_the_older_form_is_understood() {
    sealed("translated::older::what_is_written_in_the_older_form_is_understood", || {
        let lab = street_sluice_granary();
        let (host, street) = (lab.node("sluice").expect("it"), lab.node("street").expect("it"));
        let rain = Rain::open((host, "eth0"), (street, "eth0"));
        let prepare = || {
            send(tracks(), "tracking");
            let mut batch = published_the_older_way().finish().expect("fits");
            for_v4_only(&mut batch.bytes);
            deliver(&mut netfilter(), "try", &batch).expect("answered")
        };
        let refused = host.run(prepare).expect("entered");
        if !refused.is_empty() {
            // Then nobody has any here; stock kernels take them.
            println!("this kernel takes no rules in the older form");
            assert!(refused.iter().all(|it| it.1.errno == ENOENT), "{refused:?}");
            return;
        }
        let read = || Translations::read(&mut netfilter(), Here.links().expect("read"));
        let told = host.run(read).expect("entered").expect("read");
        let mut travellers = Vec::new();
        let mut from = 2_000;
        for number in [TCP, UDP] {
            for port in PORTS {
                for destination in &OWN[..2] {
                    from += 1;
                    travellers.push(Traveller {
                        in_interface: Some("eth0".into()),
                        source: address(SOURCES[0]),
                        destination: address(destination),
                        protocol: number,
                        ports: Some((from, port)),
                    });
                }
            }
        }
        rained(&rain, &travellers);
        let led = led(host);
        let mut translated = 0;
        for it in &travellers {
            let (source, port) = it.ports.expect("ports");
            let wanted = match told.course(it) {
                Course::AsItIs => (it.destination, Some(port)),
                Course::Translated { to, port, .. } => {
                    translated += 1;
                    (to, port)
                }
                other => panic!("{it:?}: {other:?}"),
            };
            assert_eq!(led.get(&source), Some(&wanted), "{it:?}");
        }
        assert!(translated >= 8, "{translated}");
        assert!(told.ports().contains(&8088) && told.ports().contains(&8090));
    });
}
