//! Ways in which others lead ports elsewhere, each with what is to be found.

use super::tables::*;
use tipstaff_wire::nf_tables::{
    self as nf, Base, Compare, Element, Expression as E, Hook, MetaKey, Verdict, fib, set_flags,
};

pub fn key(port: u16) -> Vec<u8> {
    port.to_be_bytes().to_vec()
}

/// What is to be found: ports, where they lead, and what curators meet there by policy, kernel and connection.
pub type Found = (&'static str, &'static str, &'static str);

pub struct SetUp {
    pub name: &'static str,
    pub tables: Vec<Table>,
    pub found: Vec<Found>,
    pub exit: i32,
}

pub fn set_up(name: &'static str, tables: Vec<Table>, found: &[Found]) -> SetUp {
    SetUp { name, tables, found: found.to_vec(), exit: 0 }
}

pub const OPEN: &str = "allow allow open";
pub const SILENT: &str = "deny deny silent";
pub const THERE: &str = "10.44.8.20:80";

pub fn simple() -> Vec<SetUp> {
    let web = || to("10.44.8.20", Some(80));
    let v4 = || [version(2), protocol(TCP)].concat();
    let masked = E::Bitwise {
        source: ONE,
        destination: ONE,
        length: 4,
        mask: vec![255, 255, 255, 0],
        xor: vec![0; 4],
    };
    let whence = E::Payload { register: ONE, base: Base::Network, offset: 12, length: 4 };
    let from = vec![whence, masked, eq([198, 51, 100, 0])];
    let local =
        vec![E::Fib { register: ONE, flags: fib::DESTINATION }, eq(fib::LOCAL.to_ne_bytes())];
    let range = vec![
        load_port(),
        E::Range { register: ONE, op: Compare::Equal, from: key(8000), to: key(8010) },
    ];
    vec![
        set_up("a port", one(&[v4(), port(8088), web()]), &[("8088/tcp", THERE, OPEN)]),
        set_up(
            "over IPv6",
            one(&[version(10), protocol(TCP), port(8088), to("fd44:8::20", Some(80))]),
            &[("8088/tcp", "[fd44:8::20]:80", OPEN)],
        ),
        set_up(
            "a port that stays",
            one(&[v4(), port(80), to("10.44.8.20", None)]),
            &[("80/tcp", THERE, OPEN)],
        ),
        set_up("a range", one(&[v4(), range, web()]), &[("8000-8010/tcp", THERE, OPEN)]),
        set_up(
            "a range of which each stays what it is",
            one(&[
                v4(),
                vec![
                    load_port(),
                    E::Range { register: ONE, op: Compare::Equal, from: key(79), to: key(81) },
                ],
                to("10.44.8.20", None),
            ]),
            &[
                ("79/tcp", "10.44.8.20:79", SILENT),
                ("80/tcp", THERE, OPEN),
                ("81/tcp", "10.44.8.20:81", SILENT),
            ],
        ),
        set_up(
            "at one address",
            one(&[v4(), at([192, 0, 2, 10]), port(8088), web()]),
            &[("8088/tcp", THERE, OPEN)],
        ),
        set_up("at its own", one(&[v4(), local, port(8088), web()]), &[("8088/tcp", THERE, OPEN)]),
        set_up(
            "by a link",
            one(&[v4(), by("eth0"), port(8088), web()]),
            &[("8088/tcp", THERE, OPEN)],
        ),
        set_up("for some", one(&[v4(), from, port(8088), web()]), &[("8088/tcp", THERE, OPEN)]),
    ]
}

/// Others, as simple, in which something denies, or the host itself is meant.
pub fn simple_too() -> Vec<SetUp> {
    let web = || to("10.44.8.20", Some(80));
    let v4 = || [version(2), protocol(TCP)].concat();
    vec![
        set_up(
            "to where nobody may",
            one(&[v4(), port(8088), to("10.44.8.20", Some(5432))]),
            &[("8088/tcp", "10.44.8.20:5432", SILENT)],
        ),
        set_up(
            "by UDP",
            one(&[version(2), protocol(UDP), port(5353), to("10.44.8.20", Some(53))]),
            &[("5353/udp", "10.44.8.20:53", OPEN)],
        ),
        set_up(
            "with another prefix, as the address ends",
            one(&[v4(), port(80), to_network("10.44.8.20", "10.44.8.21")]),
            &[("80/tcp", "10.44.8.20:80", OPEN)],
        ),
        set_up(
            "with another prefix, IPv6",
            one(&[version(10), protocol(TCP), port(80), to_network("fd44:8::20", "fd44:8::2f")]),
            &[("80/tcp", "[fd44:8::20]:80", OPEN)],
        ),
        set_up(
            "to itself",
            one(&[v4(), port(8443), here(443)]),
            &[("8443/tcp", "192.0.2.10:443", OPEN)],
        ),
        set_up(
            "to itself, where nobody may",
            one(&[v4(), port(9999), here(22)]),
            &[("9999/tcp", "192.0.2.10:22", SILENT)],
        ),
        set_up(
            "never, since something accepts first",
            {
                let mut all = one(&[v4(), vec![E::Immediate(Verdict::Accept)]]);
                all[0].rule("porter", &[v4(), port(8088), web()]);
                all
            },
            &[],
        ),
    ]
}

pub fn woven() -> Vec<SetUp> {
    let web = || to("10.44.8.20", Some(80));
    let v4 = || [version(2), protocol(TCP)].concat();
    let lookup = |set: &nf::Set, to_verdict| E::Lookup {
        set: set.name.clone(),
        register: ONE,
        to_verdict,
        id: set.id,
        flags: 0,
    };
    let mut sets = Table::new("almanac", -100);
    let some = sets.set(
        "some",
        1,
        set_flags::CONSTANT,
        &[Element::key(key(8088)), Element::key(key(8090))],
    );
    sets.rule("porter", &[v4(), vec![load_port(), lookup(&some, false)], web()]);
    let mut mapped = Table::new("almanac", -100);
    let leads =
        Element { number: Some(u32::from_ne_bytes([10, 44, 8, 20])), ..Element::key(key(80)) };
    let map = mapped.set("whither", 1, set_flags::MAP, &[leads]);
    let find = E::Find { set: map.name.clone(), register: ONE, destination: ONE, id: map.id };
    let nat = to("10.44.8.20", None).pop().expect("one");
    mapped.rule("porter", &[v4(), vec![load_port(), find, nat]]);
    let mut jumps = Table::new("almanac", -100);
    jumps.chain("web", "", None);
    jumps.rule("web", &[web()]);
    let jump = |port: u16| Element {
        verdict: Some(Verdict::Jump("web".into())),
        ..Element::key(key(port))
    };
    let verdicts = jumps.set("which", 1, set_flags::MAP, &[jump(8088)]);
    jumps.rule("porter", &[v4(), vec![load_port(), lookup(&verdicts, true)]]);
    let mut marks = Table::new("almanac", -100);
    marks.chain("marks", "filter", Some((Hook::PRE_ROUTING, -150)));
    let mark = vec![
        E::Load { register: ONE, data: 7u32.to_ne_bytes().to_vec() },
        E::MetaSet { key: MetaKey::Mark, source: ONE },
    ];
    marks.rule("marks", &[v4(), port(8088), mark]);
    let marked = vec![E::Meta { register: ONE, key: MetaKey::Mark }, eq(7u32.to_ne_bytes())];
    marks.rule("porter", &[v4(), marked, web()]);
    let mut later = Table::new("ledger", -90);
    later.rule("porter", &[v4(), port(8088), to("10.44.8.20", Some(5432))]);
    let mut both = one(&[v4(), port(8088), web()]);
    both.push(later);
    let mut masked = one(&[v4(), port(8088), web()]);
    masked[0].chain("behind", "nat", Some((Hook::POST_ROUTING, 100)));
    masked[0].rule("behind", &[v4(), vec![E::Other { name: "masq".into(), data: Vec::new() }]]);
    vec![
        set_up("by a set", vec![sets], &[("8088/tcp", THERE, OPEN), ("8090/tcp", THERE, OPEN)]),
        set_up("by a map", vec![mapped], &[("80/tcp", THERE, OPEN)]),
        set_up("by a map of verdicts", vec![jumps], &[("8088/tcp", THERE, OPEN)]),
        set_up("by a mark", vec![marks], &[("8088/tcp", THERE, OPEN)]),
        set_up("by the first of two tables", both, &[("8088/tcp", THERE, OPEN)]),
        set_up("with another sender behind", masked, &[("8088/tcp", THERE, OPEN)]),
    ]
}

/// What cannot be told is not taken for closed; what others keep out is told by a copy.
pub fn doubtful() -> Vec<SetUp> {
    let web = || to("10.44.8.20", Some(80));
    let v4 = || [version(2), protocol(TCP)].concat();
    let mut twin = Table::new("ledger", -100);
    twin.rule("porter", &[v4(), port(8088), to("10.44.8.20", Some(5432))]);
    let mut tied = one(&[v4(), port(8088), web()]);
    tied.push(twin);
    let mut shut = one(&[v4(), port(8088), web()]);
    shut[0].chain("closed", "filter", Some((Hook::FORWARD, -5)));
    shut[0].rule("closed", &[v4(), vec![E::Immediate(Verdict::Drop)]]);
    let random = E::Other {
        // NFTA_NG_DREG, _MODULUS and _TYPE: one of two, at random.
        name: "numgen".into(),
        data: [[8, 0, 1, 0, 0, 0, 0, 1], [8, 0, 2, 0, 0, 0, 0, 2], [8, 0, 3, 0, 0, 0, 0, 1]]
            .concat(),
    };
    let mut written = Table::new("almanac", -100);
    written.chain("raw", "filter", Some((Hook::PRE_ROUTING, -150)));
    // NFTA_PAYLOAD_BASE, _OFFSET, _LEN, _SREG, _CSUM_TYPE, _CSUM_OFFSET, _CSUM_FLAGS: written over where it goes.
    let parts = [(2, 1), (3, 16), (4, 4), (5, 1), (6, 1), (7, 10), (8, 1)];
    let data = parts.iter().flat_map(|&(kind, value)| [8, 0, kind, 0, 0, 0, 0, value]).collect();
    let over = vec![
        E::Load { register: ONE, data: vec![10, 44, 8, 20] },
        E::Other { name: "payload".into(), data },
    ];
    written.rule("raw", &[v4(), port(8088), over]);
    let chance = vec![random, eq(0u32.to_ne_bytes())];
    vec![
        set_up(
            "by one of two tables",
            tied,
            &[("8088/tcp", "not known", "unknown unknown silent")],
        ),
        set_up(
            "by writing over where it goes",
            vec![written],
            &[("8088/tcp", "not known", "unknown unknown any")],
        ),
        set_up(
            "by chance",
            one(&[v4(), port(8088), chance, web()]),
            &[("8088/tcp", "not known", "unknown unknown any")],
        ),
        SetUp {
            exit: 1,
            ..set_up(
                "though another table keeps it out",
                shut,
                &[("8088/tcp", THERE, "allow allow silent")],
            )
        },
    ]
}
