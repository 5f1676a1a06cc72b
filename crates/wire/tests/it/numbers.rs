//! Numbers and requests against the kernel's headers.

use crate::kernel_bytes::{set, written};
use tipstaff_wire::Attributes;
use tipstaff_wire::netlink::{
    ACK, APPEND, CREATE, DONE, DUMP, DUMP_INTERRUPTED, ERROR, REQUEST, split,
};
use tipstaff_wire::nf_tables::{
    Batch, Chain, Copied, Element, FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6, KINDS, MetaKey, Rule,
    STATE_BITS, Set, Table, Verdict, ask_generation, decode_elements, dump, message_kind,
    registers, set_flags,
};

/// `NFNL_MSG_BATCH_BEGIN` with `NFNL_BATCH_GENID` (linux/netfilter/nfnetlink.h), and the end.
#[test]
fn a_batch_names_the_generation_that_it_is_for() {
    let batch = Batch::begin_at(7, Some(0x0102_0304)).finish().expect("fits");
    let header = |length: u32, kind: i32, flags: i32, sequence: u32| {
        let kind = u16::try_from(kind).expect("small").to_ne_bytes();
        let flags = u16::try_from(flags).expect("small").to_ne_bytes();
        [&length.to_ne_bytes()[..], &kind, &flags, &sequence.to_ne_bytes(), &[0; 4]].concat()
    };
    let subsystem = u16::try_from(libc::NFNL_SUBSYS_NFTABLES).expect("small").to_be_bytes();
    let genid = u16::try_from(libc::NFNL_BATCH_GENID).expect("small").to_ne_bytes();
    let meant = [
        &header(28, libc::NFNL_MSG_BATCH_BEGIN, libc::NLM_F_REQUEST, 7)[..],
        &[0, 0],
        &subsystem,
        &8u16.to_ne_bytes(),
        &genid,
        &[1, 2, 3, 4],
        &header(20, libc::NFNL_MSG_BATCH_END, libc::NLM_F_REQUEST | libc::NLM_F_ACK, 8),
        &[0, 0],
        &subsystem,
    ]
    .concat();
    assert_eq!(batch.bytes, meant);
}

#[test]
fn numbers_are_the_kernels() {
    let kinds = [
        (message_kind::NEW_TABLE, libc::NFT_MSG_NEWTABLE),
        (message_kind::GET_TABLE, libc::NFT_MSG_GETTABLE),
        (message_kind::DELETE_TABLE, libc::NFT_MSG_DELTABLE),
        (message_kind::NEW_CHAIN, libc::NFT_MSG_NEWCHAIN),
        (message_kind::GET_CHAIN, libc::NFT_MSG_GETCHAIN),
        (message_kind::NEW_RULE, libc::NFT_MSG_NEWRULE),
        (message_kind::GET_RULE, libc::NFT_MSG_GETRULE),
        (message_kind::NEW_SET, libc::NFT_MSG_NEWSET),
        (message_kind::GET_SET, libc::NFT_MSG_GETSET),
        (message_kind::NEW_ELEMENTS, libc::NFT_MSG_NEWSETELEM),
        (message_kind::GET_ELEMENTS, libc::NFT_MSG_GETSETELEM),
        (message_kind::NEW_OBJECT, libc::NFT_MSG_NEWOBJ),
        (message_kind::GET_OBJECT, libc::NFT_MSG_GETOBJ),
        (message_kind::NEW_GENERATION, libc::NFT_MSG_NEWGEN),
        (message_kind::GET_GENERATION, libc::NFT_MSG_GETGEN),
    ];
    for (ours, kernels) in kinds {
        assert_eq!(i32::from(ours), libc::NFNL_SUBSYS_NFTABLES << 8 | kernels);
    }
    let keys = [
        (MetaKey::Mark, libc::NFT_META_MARK),
        (MetaKey::InInterfaceName, libc::NFT_META_IIFNAME),
        (MetaKey::OutInterfaceName, libc::NFT_META_OIFNAME),
        (MetaKey::Family, libc::NFT_META_NFPROTO),
        (MetaKey::Protocol, libc::NFT_META_L4PROTO),
    ];
    assert!(keys.iter().all(|it| it.0.number() == it.1.cast_unsigned()));
    let families = [
        (FAMILY_INET, libc::NFPROTO_INET),
        (FAMILY_IPV4, libc::NFPROTO_IPV4),
        (FAMILY_IPV6, libc::NFPROTO_IPV6),
    ];
    assert!(families.iter().all(|it| i32::from(it.0) == it.1));
    let registers = [
        (registers::VERDICT, libc::NFT_REG_VERDICT),
        (registers::FIRST, libc::NFT_REG_1),
        (registers::FIRST_WORD, libc::NFT_REG32_00),
        (registers::word(1), libc::NFT_REG32_00),
        (registers::word(2), libc::NFT_REG32_04),
        (registers::word(4), libc::NFT_REG32_12),
        (registers::word(9), libc::NFT_REG32_01),
    ];
    assert!(registers.iter().all(|it| it.0 == it.1.cast_unsigned()));
    // NF_CT_STATE_BIT(ctinfo) of enum ip_conntrack_info (established 0, related 1, new 2), and the bits of
    // what is invalid and of what is not tracked (linux/netfilter/nf_conntrack_common.h).
    let bit = |info: u32| 1 << (info + 1);
    assert_eq!(STATE_BITS, [1, bit(0), bit(1), bit(2), 1 << 6]);
}

/// Whoever makes a table again must not make it its own: it would go when the process ends.
#[test]
fn a_copy_of_a_table_belongs_to_nobody() {
    let owner = 0x2 | 0x4;
    let table = Table { family: 1, name: "other".into(), flags: owner | 0x1, ..Table::default() };
    let mut body = vec![1, 0, 0, 0];
    body.extend(written(|out| table.write(out)));
    let copied = Copied::decode(&KINDS[0], &body, 1).expect("decoded");
    let mut batch = Batch::begin(1);
    batch.again(&copied);
    let bytes = batch.finish().expect("fits").bytes;
    let messages = split(&bytes).expect("splits");
    assert_eq!(Table::decode(messages[1].body).expect("decoded").flags, 0x1);
}

/// `NFTA_SET_ID`.
const SET_NUMBER: u16 = 10;

/// Elements find the set that they belong to within a batch by its number; nothing else has one.
#[test]
fn a_copied_set_has_the_number_that_it_is_given_and_nothing_else_has_one() {
    let numbered = |message: u16, body: Vec<u8>| {
        let kind = KINDS.iter().find(|it| it.new == message).expect("a kind");
        let copied = Copied::decode(kind, &body, 7).expect("decoded");
        let mut batch = Batch::begin(1);
        batch.again(&copied);
        let bytes = batch.finish().expect("fits").bytes;
        let body = split(&bytes).expect("splits")[1].body.to_vec();
        let attributes = Attributes::new(&body[4..], "a copy");
        let numbers = attributes.map(|it| it.expect("whole")).filter(|it| it.kind == SET_NUMBER);
        numbers.map(|it| it.be32("its number").expect("four bytes")).collect::<Vec<u32>>()
    };
    let with_header = |attributes: Vec<u8>| [vec![1, 0, 0, 0], attributes].concat();
    let set = set("senders", set_flags::DYNAMIC, 4);
    assert_eq!(numbered(message_kind::NEW_SET, with_header(written(|out| set.write(out)))), [7]);
    let table = Table { family: 1, name: "other".into(), ..Table::default() };
    assert!(
        numbered(message_kind::NEW_TABLE, with_header(written(|out| table.write(out)))).is_empty()
    );
}

#[test]
fn parts_of_a_set_are_no_larger_than_said() {
    let set = set("map-1", set_flags::CONSTANT | set_flags::MAP, 4);
    let elements: Vec<Element> = (0..6_000u32)
        .map(|at| Element {
            key: at.to_be_bytes().to_vec(),
            verdict: Some(Verdict::Jump("inbound/v4/1".into())),
            user_data: vec![1; 40],
            count: Some((1, 60)),
            ..Element::default()
        })
        .collect();
    let mut batch = Batch::begin(1);
    batch.new_elements(&set, &elements);
    let bytes = batch.finish().expect("fits").bytes;
    let messages = split(&bytes).expect("splits");
    let parts: Vec<usize> = messages
        .iter()
        .filter(|it| it.kind == message_kind::NEW_ELEMENTS)
        .map(|it| it.body.len())
        .collect();
    // Neither so large that the kernel would not take a list of them, nor many more than needed.
    let head = 64;
    assert!(parts.iter().all(|&it| it <= 32_768 + head), "{parts:?}");
    assert!(parts.len() * 32_768 < bytes.len() * 3 / 2, "{} parts", parts.len());
}

#[test]
fn requests_are_what_the_kernel_expects() {
    let flag = |it: i32| u16::try_from(it).expect("small");
    let question = asked(&ask_generation(9).expect("fits"));
    assert_eq!(question, (message_kind::GET_GENERATION, flag(libc::NLM_F_REQUEST), [0; 4], vec![]));
    let list = dump(message_kind::GET_SET, FAMILY_INET, 9, |_| {}).expect("fits");
    let flags = flag(libc::NLM_F_REQUEST | libc::NLM_F_DUMP);
    assert_eq!(asked(&list), (message_kind::GET_SET, flags, [1, 0, 0, 0], vec![]));
    let table = Table { name: "tipstaff".into(), ..Table::default() };
    let mut batch = Batch::begin(1);
    batch.new_table(&table);
    batch.new_rule(&Rule::default());
    batch.delete_table("tipstaff");
    let bytes = batch.finish().expect("fits").bytes;
    let flags: Vec<u16> = split(&bytes).expect("splits").iter().map(|it| it.flags).collect();
    let request = flag(libc::NLM_F_REQUEST);
    let made = request | flag(libc::NLM_F_CREATE);
    let last = request | flag(libc::NLM_F_ACK);
    assert_eq!(flags, [request, made, made | flag(libc::NLM_F_APPEND), request, last]);
    let ours = [ACK, APPEND, CREATE, DUMP, REQUEST, DUMP_INTERRUPTED];
    let kernels = [
        libc::NLM_F_ACK,
        libc::NLM_F_APPEND,
        libc::NLM_F_CREATE,
        libc::NLM_F_DUMP,
        libc::NLM_F_REQUEST,
        libc::NLM_F_DUMP_INTR,
    ];
    assert_eq!(ours, kernels.map(flag));
    assert_eq!((i32::from(ERROR), i32::from(DONE)), (libc::NLMSG_ERROR, libc::NLMSG_DONE));
}

/// What goes is named by its attributes as linux/netfilter/nf_tables.h numbers them: the table 1, a rule's chain or a
/// set 2, a chain 3, the handle of a rule 3, and 6 the rule before which another is put.
#[test]
fn what_goes_and_where_something_comes_is_named() {
    let (table, handle) = ("tipstaff", 0x0102_0304_0506_0708);
    let chain = Chain { table: table.into(), name: "inbound/v4".into(), ..Chain::default() };
    let gone = Set { table: table.into(), name: "map".into(), size: Some(9), ..Set::default() };
    let rule = Rule { table: table.into(), chain: "inbound".into(), ..Rule::default() };
    let mut batch = Batch::begin(1);
    batch.delete_rule(table, "inbound", Some(handle));
    batch.delete_rule(table, "inbound", None);
    batch.delete_set(&gone);
    batch.delete_chain(&chain);
    batch.insert_rule(&rule, handle);
    let bytes = batch.finish().expect("fits").bytes;
    let messages = split(&bytes).expect("splits");
    let flag = |it: i32| u16::try_from(it).expect("small");
    let request = flag(libc::NLM_F_REQUEST);
    let kind = |number: i32| flag(libc::NFNL_SUBSYS_NFTABLES) << 8 | flag(number);
    let meant = [
        (kind(libc::NFT_MSG_DELRULE), request),
        (kind(libc::NFT_MSG_DELRULE), request),
        (kind(libc::NFT_MSG_DELSET), request),
        (kind(libc::NFT_MSG_DELCHAIN), request),
        (kind(libc::NFT_MSG_NEWRULE), request | flag(libc::NLM_F_CREATE)),
    ];
    let found: Vec<(u16, u16)> = messages[1..6].iter().map(|it| (it.kind, it.flags)).collect();
    assert_eq!(found, meant);
    let named = |name: &str, handle: Option<(u16, u64)>| {
        written(|out| {
            out.text(1, table);
            out.text(2, name);
            if let Some((kind, handle)) = handle {
                out.be64(kind, handle);
            }
        })
    };
    let body = |at: usize| &messages[at].body[4..];
    assert_eq!(body(1), named("inbound", Some((3, handle))));
    assert_eq!(body(2), named("inbound", None));
    assert_eq!(body(3), named("map", None));
    let chain = written(|out| {
        out.text(1, table);
        out.text(3, "inbound/v4");
    });
    assert_eq!(body(4), chain);
    let position = written(|out| out.be64(6, handle));
    assert!(body(5).ends_with(&position), "{:?}", body(5));
    assert!(body(5).starts_with(&named("inbound", None)));
}

#[test]
fn what_has_no_name_is_no_table_chain_or_set() {
    let nameless = [&[1, 0, 0, 0][..], &written(|out| out.be32(40, 1))].concat();
    assert!(Table::decode(&nameless).is_err());
    assert!(Chain::decode(&nameless).is_err());
    assert!(Set::decode(&nameless).is_err());
    assert!(decode_elements(&nameless).is_err());
}

/// What a message asks for, with the fields of its header (`struct nlmsghdr`) and of `struct nfgenmsg`.
fn asked(bytes: &[u8]) -> (u16, u16, [u8; 4], Vec<u8>) {
    let number = |at: usize| u16::from_ne_bytes([bytes[at], bytes[at + 1]]);
    let length = u32::from_ne_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]);
    assert_eq!(usize::try_from(length).expect("small"), bytes.len());
    (number(4), number(6), [bytes[16], bytes[17], bytes[18], bytes[19]], bytes[20..].to_vec())
}

#[test]
fn requests_name_what_they_are_about() {
    let text = |kind: u16, text: &str| {
        let length = u16::try_from(4 + text.len() + 1).expect("short");
        let mut bytes =
            [&length.to_ne_bytes()[..], &kind.to_ne_bytes(), text.as_bytes(), &[0]].concat();
        bytes.resize(bytes.len().next_multiple_of(4), 0);
        bytes
    };
    // NFTA_RULE_TABLE.
    let rule = Rule { table: "tipstaff".into(), ..Rule::default() };
    assert_eq!(written(|out| rule.write_table(out)), text(1, "tipstaff"));
    // NFTA_SET_ELEM_LIST_TABLE and NFTA_SET_ELEM_LIST_SET.
    let set = set("set-1", 0, 4);
    let meant = [text(1, "tipstaff"), text(2, "set-1")].concat();
    assert_eq!(written(|out| set.write_request(out)), meant);
}

#[test]
fn numbers_stand_in_their_order() {
    let attribute = |kind: u16, value: &[u8]| {
        let length = u16::try_from(4 + value.len()).expect("short");
        let mut bytes = [&length.to_ne_bytes()[..], &kind.to_ne_bytes(), value].concat();
        bytes.resize(bytes.len().next_multiple_of(4), 0);
        bytes
    };
    let bytes = written(|out| {
        out.byte(1, 7);
        out.be16(2, 0x0102);
        out.be32(3, 0x0102_0304);
        out.be64(4, 0x0102_0304_0506_0708);
        out.ne32(5, 0x0102_0304);
    });
    let meant = [
        attribute(1, &[7]),
        attribute(2, &[1, 2]),
        attribute(3, &[1, 2, 3, 4]),
        attribute(4, &[1, 2, 3, 4, 5, 6, 7, 8]),
        attribute(5, &0x0102_0304_u32.to_ne_bytes()),
    ];
    assert_eq!(bytes, meant.concat());
}

/// `NLMSGERR_ATTR_MSG` behind an acknowledgement: it quotes only the header of what was asked.
#[test]
fn an_acknowledgement_can_have_a_remark_too() {
    let answer = |errno: i32, quoted: &[u8]| {
        let remark = written(|out| out.text(1, "known"));
        let length = u32::try_from(16 + 4 + quoted.len() + remark.len()).expect("short");
        let bytes = [
            &length.to_ne_bytes()[..],
            &ERROR.to_ne_bytes(),
            // NLM_F_ACK_TLVS.
            &0x200_u16.to_ne_bytes(),
            &9_u32.to_ne_bytes(),
            &[0; 4],
            &(-errno).to_ne_bytes(),
            quoted,
            &remark,
        ]
        .concat();
        let messages = split(&bytes).expect("splits");
        let answer = messages[0].answer().expect("an answer");
        (answer.errno, answer.remark)
    };
    let header = |length: u32| [&length.to_ne_bytes()[..], &[0; 12]].concat();
    assert_eq!(answer(0, &header(20)), (0, Some("known".into())));
    // A refusal quotes all of it.
    let whole = [header(20), vec![1, 2, 3, 4]].concat();
    assert_eq!(answer(1, &whole), (1, Some("known".into())));
}
