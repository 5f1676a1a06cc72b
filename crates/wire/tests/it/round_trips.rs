//! What is written is read back.

use tipstaff_wire::netlink::split;
use tipstaff_wire::nf_tables::{
    Base, Batch, Chain, Compare, Element, Expression, Hook, Limit, MetaKey, RejectKind, Rule, Set,
    SocketKey, Table, Verdict, ct, decode_elements, message_kind, set_flags,
};
use tipstaff_wire::{Writer, nflog, route, sock_diag};

/// Every expression, with every kind of value in it.
pub fn expressions() -> Vec<Expression> {
    let limit = Limit { rate: 5, unit: 60, burst: 9, kind: 0, flags: 1 };
    vec![
        Expression::Meta { key: MetaKey::InInterfaceName, register: 1 },
        Expression::Meta { key: MetaKey::Unknown(4), register: 2 },
        Expression::Payload { base: Base::Network, offset: 12, length: 4, register: 1 },
        Expression::Payload { base: Base::Unknown(0), offset: 0, length: 6, register: 1 },
        Expression::Ct { key: ct::STATE, register: 1 },
        Expression::Bitwise {
            source: 1,
            destination: 2,
            length: 4,
            mask: vec![255, 255, 0, 0],
            xor: vec![0; 4],
        },
        Expression::Cmp { register: 1, op: Compare::NotEqual, data: vec![6] },
        Expression::Cmp { register: 1, op: Compare::Unknown(3), data: vec![1, 2, 3] },
        Expression::Range { register: 1, op: Compare::Equal, from: vec![0, 80], to: vec![0, 90] },
        Expression::Lookup { register: 1, set: "set-1".into(), id: 0, flags: 1, to_verdict: false },
        Expression::Lookup { register: 1, set: "map-1".into(), id: 0, flags: 0, to_verdict: true },
        Expression::Counter { packets: 7, bytes: u64::MAX },
        Expression::Limit(limit),
        Expression::Dynset { register: 1, set: "set-2".into(), id: 0, limit },
        Expression::Hash {
            source: 1,
            destination: 2,
            length: 4,
            modulus: 16_384,
            seed: Some(7),
            offset: 3,
        },
        Expression::Socket { key: SocketKey::Transparent, register: 1 },
        Expression::Socket { key: SocketKey::Mark, register: 9 },
        Expression::Tproxy { family: 10, address: 1 },
        Expression::Fib { register: 1, flags: 2 },
        Expression::Reject { kind: RejectKind::TcpReset, code: 0 },
        Expression::Reject { kind: RejectKind::Unreachable, code: 3 },
        Expression::Reject { kind: RejectKind::Unknown(0), code: 9 },
        Expression::Log { group: 7, snap_length: 128, threshold: 64, prefix: "catalogue".into() },
        Expression::Immediate(Verdict::Drop),
        Expression::Immediate(Verdict::Accept),
        Expression::Immediate(Verdict::Jump("limit/baseline/ping".into())),
        Expression::Immediate(Verdict::Goto("elsewhere".into())),
        Expression::Immediate(Verdict::Return),
        Expression::Immediate(Verdict::Other(-2, None)),
        Expression::MetaSet { key: MetaKey::Priority, source: 11 },
        Expression::Load { register: 2, data: vec![0; 16] },
        Expression::CtEnds { register: 2, key: ct::SOURCE, direction: 0 },
        Expression::Find { register: 1, set: "numbers".into(), id: 0, destination: 11 },
        Expression::DynsetCounts { register: 1, set: "callers".into(), id: 0 },
        Expression::DynsetAdds { register: 1, set: "callers-first".into(), id: 0 },
        Expression::Other { name: "numgen".into(), data: number() },
    ]
}

/// An attribute with a number, as the running machine writes it.
fn number() -> Vec<u8> {
    [&8u16.to_ne_bytes()[..], &1u16.to_ne_bytes(), &1u32.to_be_bytes()].concat()
}

pub fn rule() -> Rule {
    Rule {
        family: 1,
        table: "tipstaff".into(),
        chain: "inbound".into(),
        handle: None,
        expressions: expressions(),
        user_data: b"\x01catalogue".to_vec(),
    }
}

/// The bodies of a batch's messages of one kind.
fn bodies(batch: Batch, kind: u16) -> Vec<Vec<u8>> {
    let batch = batch.finish().expect("fits");
    let messages = split(&batch.bytes).expect("splits");
    assert_eq!(messages.last().map(|message| message.sequence), Some(batch.last));
    messages.iter().filter(|it| it.kind == kind).map(|it| it.body.to_vec()).collect()
}

#[test]
fn rules_with_every_expression() {
    let mut batch = Batch::begin(10);
    assert_eq!(batch.new_rule(&rule()), 11);
    let bodies = bodies(batch, message_kind::NEW_RULE);
    assert_eq!(Rule::decode(&bodies[0]), Ok(rule()));
}

#[test]
fn tables_and_chains() {
    let table = Table {
        family: 1,
        name: "tipstaff".into(),
        flags: 1,
        user_data: b"\x01sluice".to_vec(),
        ..Table::default()
    };
    let base = Chain {
        family: 1,
        table: "tipstaff".into(),
        name: "inbound".into(),
        kind: Some("filter".into()),
        hook: Some(Hook { number: Hook::LOCAL_IN, priority: -150 }),
        policy: Some(0),
    };
    let plain =
        Chain { name: "limit".into(), kind: None, hook: None, policy: None, ..base.clone() };
    let mut batch = Batch::begin(1);
    batch.new_table(&table);
    batch.new_chain(&base);
    batch.new_chain(&plain);
    batch.delete_table("tipstaff");
    let bytes = batch.finish().expect("fits").bytes;
    let messages = split(&bytes).expect("splits");
    let kinds: Vec<u16> = messages.iter().map(|message| message.kind).collect();
    assert_eq!(
        kinds[1..5],
        [
            message_kind::NEW_TABLE,
            message_kind::NEW_CHAIN,
            message_kind::NEW_CHAIN,
            message_kind::DELETE_TABLE
        ]
    );
    assert_eq!(Table::decode(messages[1].body), Ok(table));
    assert_eq!(Chain::decode(messages[2].body), Ok(base));
    assert_eq!(Chain::decode(messages[3].body), Ok(plain));
}

#[test]
fn sets_larger_than_a_message_are_sent_in_parts() {
    let set = Set {
        family: 1,
        table: "tipstaff".into(),
        name: "set-1".into(),
        flags: set_flags::CONSTANT | set_flags::INTERVAL,
        key_length: 16,
        id: 1,
        ..Set::default()
    };
    let elements: Vec<Element> = (0..20_000u128)
        .map(|at| Element {
            key: (at << 8).to_be_bytes().to_vec(),
            ends_interval: at % 2 == 1,
            verdict: (at % 4 == 0).then(|| Verdict::Jump("inbound/v4/1".into())),
            user_data: vec![1; usize::try_from(at % 3).expect("small")],
            expires: (at % 5 == 0).then_some(7_000),
            number: (at % 4 == 2).then_some(70_000),
            count: None,
        })
        .collect();
    let mut batch = Batch::begin(1);
    batch.new_set(&set);
    let last = batch.new_elements(&set, &elements);
    let batch = batch.finish().expect("fits");
    assert_eq!(batch.last, last + 1);
    let messages = split(&batch.bytes).expect("splits");
    let parts: Vec<_> =
        messages.iter().filter(|it| it.kind == message_kind::NEW_ELEMENTS).collect();
    assert!(parts.len() > 10);
    let mut found = Vec::new();
    for part in parts {
        let (name, some) = decode_elements(part.body).expect("decoded");
        assert_eq!(name, "set-1");
        found.extend(some);
    }
    assert_eq!(found, elements);
    let sets: Vec<_> = messages.iter().filter(|it| it.kind == message_kind::NEW_SET).collect();
    let decoded = Set::decode(sets[0].body).expect("decoded");
    assert_eq!((decoded.name.as_str(), decoded.flags, decoded.key_length), ("set-1", 6, 16));
}

#[test]
fn what_does_not_fit_is_refused_whole() {
    let mut batch = Batch::begin(1);
    batch.new_rule(&Rule { user_data: vec![0; 70_000], ..rule() });
    assert!(batch.finish().is_err());
}

#[test]
fn packet_reports() {
    let mut out = Writer::new();
    out.raw(&[2, 0]);
    out.raw(&11u16.to_be_bytes());
    out.bytes(1, &[8, 0, 1, 0]);
    out.bytes(9, b"a packet");
    out.be32(12, 77);
    let body = out.finish().expect("fits");
    let report = nflog::decode(&body).expect("decoded");
    assert_eq!((report.group, report.packet, report.sequence), (11, &b"a packet"[..], 77));
}

#[test]
fn requests_have_the_lengths_that_the_kernel_wants() {
    let length = |bytes: Vec<u8>| {
        let messages = split(&bytes).expect("splits");
        assert_eq!(messages.len(), 1);
        messages[0].body.len()
    };
    // struct inet_diag_req_v2; struct ifaddrmsg; struct rtmsg and RTA_DST.
    assert_eq!(length(sock_diag::request(2, 6, &[10], 1).expect("fits")), 56);
    assert_eq!(length(route::dump_addresses(1).expect("fits")), 8);
    let address = "fd44:8::20".parse().expect("an address");
    assert_eq!(length(route::get_route(address, 1).expect("fits")), 12 + 4 + 16);
}
