//! Bytes that Linux 6.18 sent, in a network namespace with the addresses of the example.

use tipstaff_wire::netlink::split;
use tipstaff_wire::nf_tables::decode_generation;
use tipstaff_wire::{conntrack, gateway, route, sock_diag};

pub fn bytes(digits: &str) -> Vec<u8> {
    let pairs = digits.as_bytes().chunks(2);
    let byte = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
    pairs.map(byte).collect::<Option<_>>().expect("hexadecimal digits")
}

/// What the same kernel would have sent where the other byte order is native. The bytes were taken on a
/// little-endian machine; of the structure in front, fields of these widths are in native order (0: a byte
/// that stays), then attributes follow, of which the values of some are.
pub fn native(digits: &str, fields: &[usize], value_is_native: fn(u16) -> bool) -> Vec<u8> {
    let mut bytes = bytes(digits);
    if cfg!(target_endian = "big") {
        let mut at = 0;
        for &width in fields {
            bytes[at..at + width].reverse();
            at += width.max(1);
        }
        attributes(&mut bytes[at..], value_is_native);
    }
    bytes
}

/// `struct nlattr` (linux/netlink.h): length, kind, value, padded to four bytes.
fn attributes(mut rest: &mut [u8], value_is_native: fn(u16) -> bool) {
    while rest.len() >= 4 {
        let (length, kind) = (
            usize::from(u16::from_le_bytes([rest[0], rest[1]])),
            u16::from_le_bytes([rest[2], rest[3]]),
        );
        rest[..2].reverse();
        rest[2..4].reverse();
        let value = &mut rest[4..length];
        if kind & 0x8000 != 0 {
            attributes(value, value_is_native);
        } else if value_is_native(kind) {
            value.reverse();
        }
        let next = length.next_multiple_of(4).min(rest.len());
        rest = &mut rest[next..];
    }
}

/// `struct nfgenmsg`: two bytes, and two in network order.
const NETFILTER: [usize; 4] = [0; 4];
/// `struct nlmsghdr`.
const MESSAGE: [usize; 5] = [4, 2, 2, 4, 4];

/// `struct inet_diag_msg`.
pub fn diagnosis() -> Vec<usize> {
    [vec![0; 4 + 4 + 32], vec![4; 3 + 5]].concat()
}

/// Of those attributes that are read, the values are numbers in native order or single bytes.
pub fn all(_: u16) -> bool {
    true
}

pub fn none(_: u16) -> bool {
    false
}

/// `struct inet_diag_msg` of a TCP listener on `[2001:db8:2::10]:2202` with `IPV6_V6ONLY` set.
pub const TCP_LISTENER: &str = "0a0a0000089a000020010db80002000000000000000000100000000000000000\
    000000000000000000000000061100000000000000000000000000008000000000000000c8b70300050008000000\
    000005000b000100000008000f00000000000c00150001000000000000000600160012000000";

/// Of a UDP socket bound to `192.0.2.10:5353`.
pub const UDP_SOCKET: &str = "0207000014e90000c000020a0000000000000000000000000000000000000000000\
    000000000000000000000071100000000000000000000000000000000000000000000c9b703000500080000000000\
    08000f00000000000c00150001000000000000000600160050000000";

/// The refusal of a request for a table that is not there: `ENOENT`, with the offset of the
/// attribute that names it.
pub const NO_TABLE: &str = "2c0000000200000309000000e2070000feffffff24000000010a01000900000000000\
    0000800020014000000";

/// The refusal of an address with prefix length 77: `EINVAL`, with the kernel's remark.
pub const BAD_PREFIX: &str = "440000000200000309000000e2070000eaffffff180000001400050009000000000\
    0000020000100697076343a20496e76616c696420707265666978206c656e67746800";

/// `RTM_NEWADDR` of 192.0.2.10 and of 2001:db8:2::10.
pub const ADDRESS: &str = "022080000100000008000100c000020a08000200c000020a070003006c6f0000080008\
    008000000014000600ffffffffffffffffafcc0800afcc0800";
pub const ADDRESS_V6: &str = "0a808200010000001400010020010db800020000000000000000001014000600ff\
    ffffffffffffffafcc0800afcc08000800080082000000";

/// What connection tracking says of a connection from `127.0.0.1:35028` to port 5432 there.
pub const FLOW: &str = "020000003400018014000180080001007f000001080002007f0000011c000280\
    05000100060000000600020088d4000006000300153800003400028014000180080001007f000001080002007f\
    0000011c000280050001000600000006000200153800000600030088d40000080003000000000e080008000000\
    000008000c002df1e97108000b0000000001080007000006977f300004802c0001800500010003000000050002\
    000a000000050003000a00000006000400230000000600050023000000";

/// Of one from `[::1]:44126`.
pub const FLOW_V6: &str = "0a0000004c0001802c0001801400030000000000000000000000000000000001\
    14000400000000000000000000000000000000011c000280050001000600000006000200ac5e00000600030015\
    3800004c0002802c00018014000300000000000000000000000000000000011400040000000000000000000000\
    0000000000011c0002800500010006000000060002001538000006000300ac5e0000080003000000000e080008\
    000000000008000c0055d2c79f08000b00000000010800070000069780300004802c0001800500010003000000\
    050002000a000000050003000a00000006000400230000000600050023000000";

#[test]
fn flows() {
    for (text, end, from) in [(FLOW, "127.0.0.1", 35_028), (FLOW_V6, "::1", 44_126)] {
        let flow = conntrack::decode(&native(text, &NETFILTER, none)).expect("decoded");
        assert_eq!(
            (flow.source.to_string(), flow.destination.to_string()),
            (end.into(), end.into())
        );
        assert_eq!((flow.protocol, flow.ports), (6, Some((from, 5432))));
        assert!(flow.answered && flow.icmp_type.is_none());
        // What names it in a request is what the kernel itself wrote.
        let request = conntrack::delete(&flow, 9).expect("fits");
        let message = split(&request).expect("splits")[0];
        let again = conntrack::decode(message.body).expect("decoded");
        assert_eq!((again.source, again.ports, again.id), (flow.source, flow.ports, flow.id));
    }
}

#[test]
fn generations() {
    let body = native("000000000800010000000007", &NETFILTER, none);
    assert_eq!(decode_generation(&body), Ok(7));
    assert!(decode_generation(&body[..8]).is_err() && decode_generation(&body[..4]).is_err());
}

#[test]
fn sockets() {
    let tcp = sock_diag::decode(&native(TCP_LISTENER, &diagnosis(), all)).expect("decoded");
    assert_eq!((tcp.address.to_string().as_str(), tcp.port), ("2001:db8:2::10", 2202));
    assert_eq!((tcp.state, tcp.v6_only, tcp.uid), (sock_diag::STATE_LISTEN, true, 0));
    assert_eq!(tcp.inode, 0x0003_b7c8);
    let udp = sock_diag::decode(&native(UDP_SOCKET, &diagnosis(), all)).expect("decoded");
    assert_eq!((udp.address.to_string().as_str(), udp.port), ("192.0.2.10", 5353));
    assert_eq!((udp.state, udp.v6_only), (sock_diag::STATE_CLOSE, false));
}

#[test]
fn refusals_with_offset_and_with_remark() {
    let answer = |digits, asked: &[usize], value_is_native| {
        let fields = [&MESSAGE[..], &[4], &MESSAGE, asked].concat();
        let bytes = native(digits, &fields, value_is_native);
        let messages = split(&bytes).expect("splits");
        assert_eq!(messages.len(), 1);
        messages[0].answer().expect("an answer")
    };
    let missing = answer(NO_TABLE, &[], all);
    assert_eq!((missing.errno, missing.remark, missing.offset), (2, None, Some(20)));
    let bad = answer(BAD_PREFIX, &[], none);
    assert_eq!((bad.errno, bad.remark.as_deref()), (22, Some("ipv4: Invalid prefix length")));
}

/// `IFA_FLAGS`; what else is read is an address.
fn is_flags(kind: u16) -> bool {
    kind == 8
}

#[test]
fn addresses() {
    let decode = |digits| {
        route::decode_address(&native(digits, &[0, 0, 0, 0, 4], is_flags))
            .expect("decoded")
            .address
            .to_string()
    };
    assert_eq!(decode(ADDRESS), "192.0.2.10");
    assert_eq!(decode(ADDRESS_V6), "2001:db8:2::10");
}

/// One route of a table: 192.0.2.10 or 2001:db8:2::10 in the table 255, of that kind.
fn own_route(kind: &str, v6: bool) -> String {
    let (header, address) = if v6 {
        ("0a80000000ff02", "14000100 20010db8000200000000000000000010")
    } else {
        ("0220000000ff02", "08000100 c000020a")
    };
    // RTA_TABLE and RTA_OIF stand around the destination.
    format!("{header}{kind}00000000 08000f00ff000000 {address} 0800040002000000").replace(' ', "")
}

#[test]
fn addresses_that_packets_are_taken_in_for() {
    let number = |kind| kind != 1;
    let decode = |digits: &str| {
        let bytes = native(digits, &[0, 0, 0, 0, 0, 0, 0, 0, 4], number);
        gateway::decode_own(&bytes).expect("decoded").map(|it| it.to_string())
    };
    assert_eq!(decode(&own_route("02", false)).as_deref(), Some("192.0.2.10"));
    assert_eq!(decode(&own_route("02", true)).as_deref(), Some("2001:db8:2::10"));
    assert_eq!(decode(&own_route("03", false)), None, "a broadcast address is nobody's own");
    assert_eq!(decode(&own_route("01", true)), None, "a way to somebody else");
}
