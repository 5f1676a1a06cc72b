//! Parts of rules in the form of the kernel's older packet filter, which its newer one carries as they are (nft_compat):
//! as many as say what a policy can (linux/netfilter/xt_conntrack.h, xt_multiport.h, xt_tcpudp.h, xt_comment.h,
//! xt_addrtype.h, linux/netfilter_ipv4/ip_tables.h and linux/netfilter_ipv6/ip6_tables.h). Numbers in them are in the
//! machine's own byte order.

use super::asked::Ranges;
use super::field::{Field, Known};
use tipstaff_core::program::End;
use tipstaff_core::space::{ICMP, ICMPV6, RangeSet};
use tipstaff_wire::Attributes;
use tipstaff_wire::nf_tables::{STATE_BITS, fib};

/// `XT_CONNTRACK_STATE`, the only thing of many that is understood.
const STATE: u16 = 1;
/// `XT_CONNTRACK_STATE_INVALID` and those of established, related, new and untracked, in the order of their
/// bits elsewhere.
const STATES: [u16; 5] = [1, 2, 4, 8, 1 << 8];
/// `XT_MULTI_PORTS`.
const MOST_PORTS: usize = 15;
/// Any type of ICMP.
const ANY_TYPE: u8 = 0xff;
const TCP: u8 = 6;
const UDP: u8 = 17;

/// What such a part asks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Part {
    /// Nothing; it is what an owner says.
    Remark(String),
    /// That fields are among some values, or if it is `true`, not among them.
    Asks(Vec<(Field, Ranges, bool)>),
}

/// What such a part does with a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Does {
    /// Nothing that matters.
    Nothing,
    /// It reports it.
    Reports,
    /// It keeps it out and answers.
    Rejects,
}

struct Attached<'d> {
    name: &'d str,
    revision: u32,
    info: &'d [u8],
}

/// NFTA_MATCH_NAME, _REV, _INFO; those of targets are the same.
fn attached(data: &[u8]) -> Option<Attached<'_>> {
    let mut found = Attached { name: "", revision: 0, info: &[] };
    for attribute in Attributes::new(data, "a part of the older packet filter") {
        let attribute = attribute.ok()?;
        match attribute.kind {
            1 => found.name = attribute.text("its name").ok()?,
            2 => found.revision = attribute.be32("its revision").ok()?,
            3 => found.info = attribute.bytes,
            _ => {}
        }
    }
    Some(found)
}

/// What a `target` does; `None` if it is not understood.
pub(super) fn target(data: &[u8]) -> Option<Does> {
    match attached(data)?.name {
        "LOG" | "NFLOG" => Some(Does::Reports),
        "REJECT" => Some(Does::Rejects),
        "TCPMSS" | "CHECKSUM" | "CLASSIFY" | "DSCP" | "TOS" | "MARK" | "CONNMARK" => {
            Some(Does::Nothing)
        }
        _ => None,
    }
}

/// What a `match` asks; `None` if it is not understood.
pub(super) fn part(data: &[u8], known: &Known) -> Option<Part> {
    let Attached { name, revision, info } = attached(data)?;
    let asks = |list| Some(Part::Asks(list));
    match (name, revision) {
        ("comment", _) => {
            let text: Vec<u8> = info.iter().copied().take_while(|it| *it != 0).collect();
            Some(Part::Remark(String::from_utf8_lossy(&text).trim().to_owned()))
        }
        ("conntrack", 2 | 3) => asks(vec![states(info, number(info, 146)?, 148, 150)?]),
        ("tcp", 0) if known.only(&RangeSet::single(TCP)) => asks(ports(info, 8..11, 11)?),
        ("udp", 0) if known.only(&RangeSet::single(UDP)) => asks(ports(info, 8..8, 8)?),
        ("multiport", 1) if known.has_ports() => asks(vec![several_ports(info)?]),
        ("icmp", 0) if known.only(&RangeSet::single(ICMP)) => asks(kind(info, ICMP)?),
        ("icmp6", 0) if known.only(&RangeSet::single(ICMPV6)) => asks(kind(info, ICMPV6)?),
        ("addrtype", 1) => asks(vec![own(info)?]),
        _ => None,
    }
}

fn number(info: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_ne_bytes(info.get(at..at + 2)?.try_into().ok()?))
}

/// `struct xt_conntrack_mtinfo2` and `3`, as far as they are the same.
fn states(info: &[u8], asked: u16, inverted: usize, mask: usize) -> Option<(Field, Ranges, bool)> {
    let (inverted, mask) = (number(info, inverted)?, number(info, mask)?);
    let known = STATES.iter().fold(0, |all, it| all | it);
    if asked != STATE || inverted & !STATE != 0 || mask & !known != 0 {
        return None;
    }
    let its = STATES.iter().zip(STATE_BITS).filter(|it| mask & it.0 != 0);
    let keys = its.map(|(_, bit)| (bit.to_ne_bytes().to_vec(), bit.to_ne_bytes().to_vec()));
    Some((Field::State, keys.collect(), inverted != 0))
}

fn range(first: u16, last: u16) -> Ranges {
    vec![(first.to_be_bytes().to_vec(), last.to_be_bytes().to_vec())]
}

/// `struct xt_tcp` and `struct xt_udp`: ports from which, ports to which, `more` about TCP, and what is inverted.
fn ports(
    info: &[u8],
    more: std::ops::Range<usize>,
    inverted: usize,
) -> Option<Vec<(Field, Ranges, bool)>> {
    let inverted = *info.get(inverted)?;
    if info.get(more)?.iter().any(|it| *it != 0) || inverted & !3 != 0 {
        return None;
    }
    let (from, to) = ((number(info, 0)?, number(info, 2)?), (number(info, 4)?, number(info, 6)?));
    let all = [
        (Field::SourcePort, range(from.0, from.1), inverted & 1 != 0),
        (Field::DestinationPort, range(to.0, to.1), inverted & 2 != 0),
    ];
    let whole = range(0, u16::MAX);
    Some(all.into_iter().filter(|it| it.1 != whole || it.2).collect())
}

/// `struct xt_multiport_v1`: of source, of destination, or of either, which is not understood.
fn several_ports(info: &[u8]) -> Option<(Field, Ranges, bool)> {
    let field = match info.first()? {
        0 => Field::SourcePort,
        1 => Field::DestinationPort,
        _ => return None,
    };
    let count = usize::from(*info.get(1)?);
    let (flags, inverted) = (info.get(32..47)?, *info.get(47)? != 0);
    let mut found = Vec::new();
    let mut at = 0;
    while at < count.min(MOST_PORTS) {
        let first = number(info, 2 + 2 * at)?;
        // A flag says that the next one is where it ends.
        let last = if flags[at] != 0 { number(info, 4 + 2 * at)? } else { first };
        at += if flags[at] != 0 { 2 } else { 1 };
        found.extend(range(first, last));
    }
    Some((field, found, inverted))
}

/// `struct ipt_icmp` and `struct ip6t_icmp`: a type, codes from one to another, and whether it is inverted.
fn kind(info: &[u8], own: u8) -> Option<Vec<(Field, Ranges, bool)>> {
    let [kind, first, last, inverted] = *info.first_chunk()?;
    match (kind, first, last, inverted) {
        (ANY_TYPE, .., 0) if own == ICMP => Some(Vec::new()),
        (kind, 0, u8::MAX, 0 | 1) => {
            Some(vec![(Field::IcmpType(own), vec![(vec![kind], vec![kind])], inverted == 1)])
        }
        _ => None,
    }
}

/// `struct xt_addrtype_info_v1`: whether source or destination is one of the host's own addresses.
fn own(info: &[u8]) -> Option<(Field, Ranges, bool)> {
    const LOCAL: u16 = 1 << 2;
    let flags = u32::from_ne_bytes(info.get(4..8)?.try_into().ok()?);
    let (end, inverted) = match (number(info, 0)?, number(info, 2)?) {
        // XT_ADDRTYPE_INVERT_SOURCE, XT_ADDRTYPE_INVERT_DEST; the others look at an interface.
        (LOCAL, 0) if flags & !1 == 0 => (End::Source, flags & 1 != 0),
        (0, LOCAL) if flags & !2 == 0 => (End::Destination, flags & 2 != 0),
        _ => return None,
    };
    let local = fib::LOCAL.to_ne_bytes().to_vec();
    Some((Field::Kind(end), vec![(local.clone(), local)], inverted))
}

#[cfg(test)]
mod tests {
    use super::*;
    use tipstaff_core::program::Test;
    use tipstaff_wire::Writer;

    fn read(name: &str, revision: u32, info: &[u8], protocol: u8) -> Option<Part> {
        let mut out = Writer::new();
        out.text(1, name);
        out.be32(2, revision);
        out.bytes(3, info);
        let known = Known::by(&[Test::Protocol(RangeSet::single(protocol))]);
        part(&out.finish().expect("fits"), &known)
    }

    /// As the kernel's headers lay them out on a machine whose numbers begin with their lowest byte.
    #[test]
    #[cfg(target_endian = "little")]
    fn what_a_policy_can_say_is_read() {
        let mut conntrack = vec![0; 164];
        (conntrack[146], conntrack[150]) = (1, 6);
        let keys = |bits: &[u32]| -> Ranges {
            bits.iter().map(|it| (it.to_ne_bytes().to_vec(), it.to_ne_bytes().to_vec())).collect()
        };
        let asks = |field, ranges, inverted| Some(Part::Asks(vec![(field, ranges, inverted)]));
        assert_eq!(read("conntrack", 3, &conntrack, 6), asks(Field::State, keys(&[2, 4]), false));
        (conntrack[148], conntrack[151]) = (1, 1);
        assert_eq!(
            read("conntrack", 3, &conntrack, 6),
            asks(Field::State, keys(&[2, 4, 64]), true)
        );
        // Also about who made it, or about translation: that is not followed.
        for (at, byte) in [(146, 3), (150, 128)] {
            let mut other = conntrack.clone();
            other[at] = byte;
            assert_eq!(read("conntrack", 3, &other, 6), None, "{at}");
        }
        let tcp = [0, 0, 255, 255, 0x98, 0x1f, 0x99, 0x1f, 0, 0, 0, 2];
        assert_eq!(read("tcp", 0, &tcp, 6), asks(Field::DestinationPort, range(8088, 8089), true));
        assert_eq!(read("tcp", 0, &tcp, 17), None);
        let mut several = vec![1, 3];
        for port in [22u16, 8088, 8090] {
            several.extend(port.to_ne_bytes());
        }
        several.resize(32, 0);
        several.extend([0, 1, 0]);
        several.resize(48, 0);
        let ports = [range(22, 22), range(8088, 8090)].concat();
        assert_eq!(read("multiport", 1, &several, 17), asks(Field::DestinationPort, ports, false));
        several[0] = 2;
        assert_eq!(read("multiport", 1, &several, 17), None, "either end");
        let echo = vec![(vec![8], vec![8])];
        assert_eq!(read("icmp", 0, &[8, 0, 255, 0], 1), asks(Field::IcmpType(1), echo, false));
        assert_eq!(read("icmp", 0, &[3, 1, 1, 0], 1), None, "by its code");
        let mut text = b"the catalogue".to_vec();
        text.resize(256, 0);
        assert_eq!(read("comment", 0, &text, 6), Some(Part::Remark("the catalogue".into())));
        assert_eq!(read("owner", 1, &[0; 32], 6), None);
        for (name, revision) in [("conntrack", 3), ("tcp", 0), ("multiport", 1), ("icmp", 0)] {
            assert_eq!(read(name, revision, &[1], if name == "icmp" { 1 } else { 6 }), None);
        }
    }
}
