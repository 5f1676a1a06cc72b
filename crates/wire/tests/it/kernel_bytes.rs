//! The packet filter's messages against what a real kernel wrote of the same things.
//!
//! A codec that is wrong in both directions reads back what it wrote. Here the kernel wrote: what is read
//! must mean what was asked of it, and what is written must be a part of what the kernel says.

use crate::golden::bytes;
use tipstaff_wire::Writer;
use tipstaff_wire::nf_tables::{
    Base, Chain, Compare, Element, Expression, Hook, Limit, MetaKey, RejectKind, Rule, Set,
    SocketKey, Table, Verdict, decode_elements, set_flags,
};

const KERNEL: &str = include_str!("../data/kernel.txt");

/// The body of the message that the kernel sent of something.
fn body(kind: &str, name: &str) -> Vec<u8> {
    let begins = format!("{kind}: {name}: ");
    let digits = KERNEL.lines().find_map(|line| line.strip_prefix(&begins));
    let mut body = bytes(digits.unwrap_or_else(|| panic!("{begins}is there")));
    if cfg!(target_endian = "big") {
        turn_round(&mut body[4..]);
    }
    body
}

/// The headers of attributes as a big-endian machine writes them. The kernel does not say which attributes
/// hold others; here, no value that is none looks like a list of them.
fn turn_round(list: &mut [u8]) {
    let header = |at: &[u8]| usize::from(u16::from_le_bytes([at[0], at[1]]));
    let mut at = 0;
    let mut places = Vec::new();
    while at < list.len() {
        if list.len() - at < 4 || header(&list[at..]) < 4 || at + header(&list[at..]) > list.len() {
            return;
        }
        places.push((at, at + header(&list[at..])));
        at = places[places.len() - 1].1.next_multiple_of(4);
    }
    for (at, end) in places {
        turn_round(&mut list[at + 4..end]);
        list[at..at + 2].reverse();
        list[at + 2..at + 4].reverse();
    }
}

/// Attributes as they come (linux/netlink.h, `struct nlattr`): kind, whether it says that it holds others,
/// and value.
pub fn attributes(mut rest: &[u8]) -> Vec<(u16, bool, &[u8])> {
    let mut found = Vec::new();
    while rest.len() >= 4 {
        let length = usize::from(u16::from_ne_bytes([rest[0], rest[1]]));
        let kind = u16::from_ne_bytes([rest[2], rest[3]]);
        found.push((kind & 0x3fff, kind & 0x8000 != 0, &rest[4..length]));
        rest = &rest[length.next_multiple_of(4).min(rest.len())..];
    }
    found
}

/// Everything that is written here has the kernel said too, in the same words; but for the numbers by which
/// the messages of one batch know each other's sets.
fn is_part_of(ours: &[u8], kernels: &[u8], at: &str, passed_over: &[&str]) {
    let kernels = attributes(kernels);
    let mut seen = std::collections::HashMap::new();
    for (kind, holds_others, value) in attributes(ours) {
        let path = format!("{at}/{kind}");
        if passed_over.iter().any(|it| path.ends_with(it)) {
            continue;
        }
        // Of several of one kind, as in a list, each stands for the one in its place.
        let place: &mut usize = seen.entry(kind).or_default();
        let same = kernels.iter().filter(|it| it.0 == kind).nth(*place);
        *place += 1;
        let (.., theirs) = same.unwrap_or_else(|| panic!("the kernel does not say {path}"));
        if holds_others {
            is_part_of(value, theirs, &path, passed_over);
        } else {
            assert_eq!(&value, theirs, "{path}");
        }
    }
}

pub fn written(write: impl FnOnce(&mut Writer)) -> Vec<u8> {
    let mut out = Writer::new();
    write(&mut out);
    out.finish().expect("fits")
}

#[test]
fn the_table() {
    let body = body("table", "sluice");
    let table = Table {
        family: 1,
        name: "tipstaff".into(),
        flags: 0,
        user_data: b"\x01sluice".to_vec(),
        handle: Some(1),
    };
    assert_eq!(Table::decode(&body), Ok(table.clone()));
    is_part_of(&written(|out| table.write(out)), &body[4..], "table", &[]);
}

#[test]
fn chains_at_every_hook() {
    let at = |number, priority, policy| (Some(Hook { number, priority }), Some(policy));
    let chains = [
        ("inbound", at(Hook::LOCAL_IN, -150, 0)),
        ("outbound", at(Hook::LOCAL_OUT, 7, 1)),
        ("forwarded", at(Hook::FORWARD, 0, 1)),
        ("reopened", at(Hook::PRE_ROUTING, 0, 1)),
        ("aside", (None, None)),
    ];
    for (name, (hook, policy)) in chains {
        let body = body("chain", name);
        let kind = hook.map(|_| "filter".to_owned());
        let chain =
            Chain { family: 1, table: "tipstaff".into(), name: name.into(), kind, hook, policy };
        assert_eq!(Chain::decode(&body), Ok(chain.clone()), "{name}");
        is_part_of(&written(|out| chain.write(out)), &body[4..], name, &[]);
    }
    // include/uapi/linux/netfilter.h, enum nf_inet_hooks.
    let numbers = [Hook::LOCAL_IN, Hook::FORWARD, Hook::LOCAL_OUT, Hook::PRE_ROUTING];
    let meant = [libc::NF_INET_LOCAL_IN, libc::NF_INET_FORWARD, libc::NF_INET_LOCAL_OUT]
        .into_iter()
        .chain([libc::NF_INET_PRE_ROUTING]);
    assert!(numbers.into_iter().eq(meant.map(i32::cast_unsigned)));
    assert_eq!(Hook::POST_ROUTING, libc::NF_INET_POST_ROUTING.cast_unsigned());
    assert_eq!(Hook::INGRESS, libc::NF_INET_NUMHOOKS.cast_unsigned());
}

pub fn set(name: &str, flags: u32, key_length: u32) -> Set {
    Set {
        family: 1,
        table: "tipstaff".into(),
        name: name.into(),
        flags,
        key_length,
        ..Set::default()
    }
}

fn sets() -> [(&'static str, Set); 3] {
    let map = set("map-1", set_flags::CONSTANT | set_flags::MAP, 4);
    let growing = set("set-2", set_flags::DYNAMIC | set_flags::TIMEOUT, 4);
    [
        ("interval", set("set-1", set_flags::CONSTANT | set_flags::INTERVAL, 2)),
        ("map", Set { size: Some(3), verdicts: true, counted: true, ..map }),
        ("growing", Set { size: Some(65_536), timeout: Some(11_000), ..growing }),
    ]
}

#[test]
fn sets_of_every_kind() {
    for (name, set) in sets() {
        let body = body("set", name);
        assert_eq!(Set::decode(&body), Ok(set.clone()), "{name}");
        // What an element counts from is said of each; the set only says that they count.
        let passed_over = ["set/10", "/17/2/1", "/17/2/2"];
        is_part_of(&written(|out| set.write(out)), &body[4..], "set", &passed_over);
    }
    let meant = [
        (set_flags::CONSTANT, libc::NFT_SET_CONSTANT),
        (set_flags::INTERVAL, libc::NFT_SET_INTERVAL),
        (set_flags::MAP, libc::NFT_SET_MAP),
        (set_flags::TIMEOUT, libc::NFT_SET_TIMEOUT),
        (set_flags::DYNAMIC, libc::NFT_SET_EVAL),
    ];
    assert!(meant.iter().all(|it| it.0 == it.1.cast_unsigned()));
}

#[test]
fn elements_of_sets() {
    let [(_, interval), (_, map), _] = sets();
    let counted = |count, last, verdict| Element {
        verdict: Some(verdict),
        count: Some(count),
        ..Element::key(vec![192, 0, 2, last])
    };
    let of_map = |elements: &mut Vec<Element>| elements.sort_by(|a, b| a.key.cmp(&b.key));
    let (name, found) = decode_elements(&body("elements", "interval")).expect("decoded");
    assert_eq!(name, "set-1");
    let ends = vec![Element::end(vec![0, 91]), Element::key(vec![0, 80])];
    assert_eq!(found, ends);
    let (name, in_map) = decode_elements(&body("elements", "map")).expect("decoded");
    assert_eq!(name, "map-1");
    let mut sorted = in_map.clone();
    of_map(&mut sorted);
    let accepted = counted((7, 700), 10, Verdict::Accept);
    assert_eq!(
        sorted,
        [
            Element { user_data: b"\x01catalogue".to_vec(), ..accepted },
            counted((0, 0), 11, Verdict::Drop),
            counted((0, 0), 12, Verdict::Jump("aside".into())),
        ]
    );
    for (name, set, elements) in [("interval", interval, ends), ("map", map, in_map)] {
        let ours = written(|out| set.write_elements(&elements, out));
        is_part_of(&ours, &body("elements", name)[4..], "elements", &["elements/4"]);
    }
}

type Told = (&'static str, Vec<Expression>);

fn payload(base: Base, offset: u32, length: u32, register: u32) -> Expression {
    Expression::Payload { base, offset, length, register }
}

fn meta(key: MetaKey) -> Expression {
    Expression::Meta { key, register: 1 }
}

fn cmp(register: u32, op: Compare, data: &[u8]) -> Expression {
    Expression::Cmp { register, op, data: data.to_vec() }
}

fn sender(register: u32) -> Expression {
    payload(Base::Network, 12, 4, register)
}

fn receiver() -> Expression {
    payload(Base::Network, 16, 4, 1)
}

fn only_tcp() -> Vec<Expression> {
    vec![meta(MetaKey::Protocol), cmp(1, Compare::Equal, &[6])]
}

/// The rules that the kernel was told, by what is in them.
fn rules() -> Vec<Told> {
    [tests(), deeds()].concat()
}

/// Those that test something.
fn tests() -> Vec<Told> {
    let bitwise = |source, destination, mask: [u8; 4], xor: [u8; 4]| Expression::Bitwise {
        source,
        destination,
        length: 4,
        mask: mask.to_vec(),
        xor: xor.to_vec(),
    };
    let look = |set: &str, flags, to_verdict| Expression::Lookup {
        register: 1,
        set: set.into(),
        id: 0,
        flags,
        to_verdict,
    };
    let port = || payload(Base::Transport, 2, 2, 1);
    vec![
        (
            "meta cmp",
            vec![
                meta(MetaKey::InInterfaceName),
                cmp(1, Compare::NotEqual, b"eth0\0\0\0\0\0\0\0\0\0\0\0\0"),
            ],
        ),
        (
            "payload bitwise cmp",
            vec![
                sender(2),
                bitwise(2, 3, [255, 255, 255, 0], [0, 0, 0, 9]),
                cmp(3, Compare::Equal, &[192, 0, 2, 9]),
            ],
        ),
        (
            "ct",
            vec![
                Expression::Ct { key: 0, register: 1 },
                bitwise(1, 1, [10, 0, 0, 0], [0; 4]),
                cmp(1, Compare::NotEqual, &[0; 4]),
            ],
        ),
        (
            "range counter immediate",
            vec![
                port(),
                Expression::Range {
                    register: 1,
                    op: Compare::Equal,
                    from: vec![0, 80],
                    to: vec![0, 90],
                },
                Expression::Counter { packets: 7, bytes: 700 },
                Expression::Immediate(Verdict::Accept),
            ],
        ),
        ("lookup", vec![port(), look("set-1", 1, false), Expression::Immediate(Verdict::Drop)]),
        ("lookup to verdict", vec![receiver(), look("map-1", 0, true)]),
    ]
}

/// Those that limit, mark or end something.
fn deeds() -> Vec<Told> {
    let limit = Limit { rate: 5, unit: 60, burst: 9, kind: 0, flags: 0 };
    let reset = Expression::Reject { kind: RejectKind::TcpReset, code: 0 };
    let prohibited = Expression::Reject { kind: RejectKind::Unreachable, code: 3 };
    vec![
        (
            "limit jump",
            vec![
                Expression::Limit(Limit { kind: 1, flags: 1, ..limit }),
                Expression::Limit(limit),
                Expression::Immediate(Verdict::Jump("aside".into())),
            ],
        ),
        (
            "dynset",
            vec![sender(2), Expression::Dynset { register: 2, set: "set-2".into(), id: 0, limit }],
        ),
        (
            "hash",
            vec![
                sender(1),
                Expression::Hash {
                    source: 1,
                    destination: 2,
                    length: 4,
                    modulus: 16_384,
                    seed: Some(7),
                    offset: 3,
                },
            ],
        ),
        ("socket", vec![Expression::Socket { key: SocketKey::Mark, register: 1 }]),
        (
            "byteorder",
            vec![
                meta(MetaKey::Time),
                Expression::Byteorder { source: 1, destination: 3 },
                cmp(3, Compare::Less, &[1, 2, 3, 4, 5, 6, 7, 8]),
            ],
        ),
        ("reject reset", [only_tcp(), vec![reset]].concat()),
        ("reject prohibited", vec![prohibited]),
        (
            "log",
            vec![Expression::Log {
                group: 8_484,
                snap_length: 256,
                threshold: 4,
                prefix: "catalogue".into(),
            }],
        ),
        (
            "tproxy",
            [
                vec![meta(MetaKey::Family), cmp(1, Compare::Equal, &[2])],
                only_tcp(),
                vec![receiver(), Expression::Tproxy { family: 2, address: 1 }],
            ]
            .concat(),
        ),
    ]
}

#[test]
fn rules_with_every_expression() {
    let told = KERNEL.lines().filter(|it| it.starts_with("rule: ")).count();
    assert_eq!(told, rules().len());
    for (name, expressions) in rules() {
        let body = body("rule", name);
        let rule = Rule::decode(&body).expect("decoded");
        assert_eq!(rule.expressions, expressions, "{name}");
        assert_eq!((rule.family, rule.table.as_str()), (1, "tipstaff"));
        assert!(rule.handle.is_some() && !rule.user_data.is_empty(), "{name}");
        let ours = written(|out| rule.write(out));
        // The kernel says what expressions are to a `dynset` in the same place as we do.
        is_part_of(&ours, &body[4..], "rule", &[]);
    }
}

/// An expression that says more than its fields can hold is kept as it came: to read it as less would be
/// to take it for what it is not.
#[test]
fn expressions_that_say_more_are_not_taken_for_less() {
    let more: [(&str, &[(u16, u32)]); 12] = [
        // NFTA_META_SREG beside a register to load to.
        ("meta", &[(1, 2), (2, 15), (3, 0)]),
        // A verdict that no map gives.
        ("lookup", &[(2, 1), (3, 9), (5, 1)]),
        ("socket", &[(1, 1), (2, 1), (3, 0)]),
        ("tproxy", &[(1, 2), (2, 1), (3, 2)]),
        ("payload", &[(2, 1), (3, 0), (4, 4), (5, 1)]),
        ("ct", &[(1, 1), (2, 0), (3, 0)]),
        ("ct", &[(2, 0), (4, 1)]),
        ("byteorder", &[(1, 1), (2, 1), (3, 0), (4, 8), (5, 8)]),
        ("byteorder", &[(1, 1), (2, 1), (3, 1), (4, 4), (5, 8)]),
        ("byteorder", &[(1, 1), (2, 1), (3, 1), (4, 8), (5, 2)]),
        ("hash", &[(1, 1), (2, 2), (3, 4), (4, 9), (7, 1)]),
        ("log", &[(3, 1)]),
    ];
    for (name, attributes) in more {
        let data = written(|out| attributes.iter().for_each(|it| out.be32(it.0, it.1)));
        let rule = Rule {
            expressions: vec![Expression::Other { name: name.into(), data }],
            ..Rule::default()
        };
        let body = [&[1, 0, 0, 0][..], &written(|out| rule.write(out))].concat();
        assert_eq!(Rule::decode(&body).expect("decoded").expressions, rule.expressions, "{name}");
    }
    // A `dynset` with one more attribute, or another operation.
    let limit = Limit { rate: 5, unit: 60, burst: 9, kind: 0, flags: 0 };
    let plain = Expression::Dynset { register: 1, set: "s".into(), id: 0, limit };
    let dynset = |change: &dyn Fn(&mut Vec<u8>)| {
        let whole = written(|out| plain.write(out));
        let inside = attributes(&whole)[1].2.to_vec();
        let mut data = inside;
        change(&mut data);
        let expressions = vec![Expression::Other { name: "dynset".into(), data }];
        let rule = Rule { expressions, ..Rule::default() };
        let body = [&[1, 0, 0, 0][..], &written(|out| rule.write(out))].concat();
        Rule::decode(&body).expect("decoded").expressions[0].clone()
    };
    assert_eq!(dynset(&|_| {}), plain);
    let adding =
        |kind: u16, value: u32| dynset(&|data| data.extend(written(|out| out.be32(kind, value))));
    assert_eq!(adding(9, 2), plain, "a flag that says what shows anyway");
    assert_eq!(adding(6, 0), plain, "the set's own time");
    for (kind, value) in [(5, 1), (6, 1), (9, 1), (10, 1)] {
        let kept = matches!(adding(kind, value), Expression::Other { .. });
        assert!(kept, "NFTA_DYNSET attribute {kind}");
    }
}
