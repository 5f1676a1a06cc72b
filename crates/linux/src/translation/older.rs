//! Parts of rules in the form of the kernel's older packet filter, which its newer one carries as they are (nft_compat):
//! as many as others use to publish ports (linux/netfilter/x_tables.h, xt_addrtype.h, xt_tcpudp.h, xt_mark.h and
//! linux/netfilter/nf_nat.h). Numbers in them are in the machine's own byte order, unless they stand so in packets.

use std::net::IpAddr;
use tipstaff_wire::Attributes;

/// `XT_ADDRTYPE_INVERT_DEST`, and the bits that only look at one interface.
const INVERTED: u32 = 2;
const BY_INTERFACE: u32 = 4 | 8;
/// `XT_TCP_INV_DSTPT` and `XT_UDP_INV_DSTPT`.
const PORTS_INVERTED: u8 = 2;
/// `NF_NAT_RANGE_MAP_IPS`, `NF_NAT_RANGE_PROTO_SPECIFIED`, `NF_NAT_RANGE_PROTO_OFFSET`.
const ADDRESSES: u32 = 1;
const PORTS: u32 = 2;
const OFFSET: u32 = 32;

/// What these do to a packet changes neither where it goes nor what rules see of it, and rules go on behind them; the
/// last two do it behind all that decides.
const HARMLESS: [&str; 11] = [
    "LOG",
    "NFLOG",
    "TCPMSS",
    "CHECKSUM",
    "CLASSIFY",
    "DSCP",
    "TOS",
    "TTL",
    "HL",
    "MASQUERADE",
    "SNAT",
];

/// What such a part asks of a packet, or does with it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Part {
    /// Nothing.
    Nothing,
    /// Whether what it goes to is of such a sort: a bit for each (`RTN_*` in linux/rtnetlink.h).
    GoesTo { kinds: u16, inverted: bool },
    /// Whether it goes to one of these ports.
    Port { first: u16, last: u16, inverted: bool },
    /// It marks it: what is kept of the old mark, and what is put in.
    Mark { mask: u32, mark: u32 },
    /// It leads it there: from one to another address, and port.
    Leads { addresses: Option<(IpAddr, IpAddr)>, ports: Option<(u16, u16)> },
    /// It leads it to this host, at ports from one to another.
    Here { ports: Option<(u16, u16)> },
}

/// Reads a `match` or `target`; `None` if it is not understood.
pub(super) fn part(name: &str, data: &[u8], v4: bool) -> Option<Part> {
    let (mut of, mut revision, mut info) = ("", 0, &[][..]);
    // NFTA_MATCH_NAME, _REV, _INFO; those of targets are the same.
    for attribute in Attributes::new(data, "a part of the older packet filter") {
        let attribute = attribute.ok()?;
        match attribute.kind {
            1 => of = attribute.text("its name").ok()?,
            2 => revision = attribute.be32("its revision").ok()?,
            3 => info = attribute.bytes,
            _ => {}
        }
    }
    match (name, of, revision) {
        ("match", "comment", _) => Some(Part::Nothing),
        ("target", of, _) if HARMLESS.contains(&of) => Some(Part::Nothing),
        ("match", "addrtype", 1) => goes_to(info),
        ("match", "tcp", 0) => port(info, *info.get(11)?, 11),
        ("match", "udp", 0) => port(info, *info.get(8)?, 8),
        ("target", "MARK", 2) => {
            let (mark, mask) = (number(info, 0)?, number(info, 4)?);
            Some(Part::Mark { mask: !mask, mark })
        }
        ("target", "DNAT", 0) => {
            range_of_v4(info).map(|(addresses, ports)| Part::Leads { addresses, ports })
        }
        ("target", "DNAT", 1 | 2) => {
            let (addresses, ports) = range(info, v4)?;
            Some(Part::Leads { addresses, ports })
        }
        ("target", "REDIRECT", 0) => {
            let (_, ports) = if v4 { range_of_v4(info)? } else { range(info, v4)? };
            Some(Part::Here { ports })
        }
        _ => None,
    }
}

fn number(info: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_ne_bytes(info.get(at..at + 4)?.try_into().ok()?))
}

fn short(info: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_ne_bytes(info.get(at..at + 2)?.try_into().ok()?))
}

/// `struct xt_addrtype_info_v1`.
fn goes_to(info: &[u8]) -> Option<Part> {
    let (source, kinds, flags) = (short(info, 0)?, short(info, 2)?, number(info, 4)?);
    let understood = source == 0 && flags & BY_INTERFACE == 0;
    understood.then_some(Part::GoesTo { kinds, inverted: flags & INVERTED != 0 })
}

/// `struct xt_tcp` and `struct xt_udp`: ports from which, ports to which, and of TCP an option and flags.
fn port(info: &[u8], turned: u8, end: usize) -> Option<Part> {
    let any = short(info, 0)? == 0 && short(info, 2)? == u16::MAX;
    let plain = info.get(8..end)?.iter().all(|it| *it == 0) && turned & !PORTS_INVERTED == 0;
    let (first, last) = (short(info, 4)?, short(info, 6)?);
    (any && plain).then_some(Part::Port { first, last, inverted: turned & PORTS_INVERTED != 0 })
}

type Range = (Option<(IpAddr, IpAddr)>, Option<(u16, u16)>);

fn in_packets(info: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_be_bytes(info.get(at..at + 2)?.try_into().ok()?))
}

/// `struct nf_nat_ipv4_multi_range_compat`, of which there is always one.
fn range_of_v4(info: &[u8]) -> Option<Range> {
    let flags = number(info, 4)?;
    let address = |at: usize| -> Option<IpAddr> {
        Some(IpAddr::from(<[u8; 4]>::try_from(info.get(at..at + 4)?).ok()?))
    };
    let addresses = if flags & ADDRESSES == 0 { None } else { Some((address(8)?, address(12)?)) };
    let ports = if flags & PORTS == 0 {
        None
    } else {
        Some((in_packets(info, 16)?, in_packets(info, 18)?))
    };
    (number(info, 0)? == 1).then_some((addresses, ports))
}

/// `struct nf_nat_range`, and `struct nf_nat_range2` as far as it is the same.
fn range(info: &[u8], v4: bool) -> Option<Range> {
    let flags = number(info, 0)?;
    let address = |at: usize| -> Option<IpAddr> {
        Some(match v4 {
            true => IpAddr::from(<[u8; 4]>::try_from(info.get(at..at + 4)?).ok()?),
            false => IpAddr::from(<[u8; 16]>::try_from(info.get(at..at + 16)?).ok()?),
        })
    };
    let addresses = if flags & ADDRESSES == 0 { None } else { Some((address(4)?, address(20)?)) };
    let ports = if flags & PORTS == 0 {
        None
    } else {
        Some((in_packets(info, 36)?, in_packets(info, 38)?))
    };
    (flags & OFFSET == 0).then_some((addresses, ports))
}

#[cfg(test)]
mod tests {
    use super::*;
    use tipstaff_wire::Writer;

    fn data(name: &str, revision: u32, info: &[u8]) -> Vec<u8> {
        let mut out = Writer::new();
        out.text(1, name);
        out.be32(2, revision);
        out.bytes(3, info);
        out.finish().expect("fits")
    }

    fn read(kind: &str, name: &str, revision: u32, info: &[u8]) -> Option<Part> {
        part(kind, &data(name, revision, info), true)
    }

    /// As the kernel's headers lay them out on a machine whose numbers begin with their lowest byte.
    #[test]
    #[cfg(target_endian = "little")]
    fn what_publishes_ports_is_read() {
        let local = [0, 0, 4, 0, 0, 0, 0, 0];
        assert_eq!(
            read("match", "addrtype", 1, &local),
            Some(Part::GoesTo { kinds: 4, inverted: false })
        );
        // Of one interface only: that is not followed.
        assert_eq!(read("match", "addrtype", 1, &[0, 0, 4, 0, 4, 0, 0, 0]), None);
        assert_eq!(read("match", "addrtype", 0, &local), None);
        let tcp = [0, 0, 255, 255, 0x98, 0x1f, 0x99, 0x1f, 0, 0, 0, 2];
        let ports = Part::Port { first: 8088, last: 8089, inverted: true };
        assert_eq!(read("match", "tcp", 0, &tcp), Some(ports));
        // By the port that it comes from, or by its flags: that is not followed.
        for (at, byte) in [(0, 1), (9, 2), (11, 8)] {
            let mut other = tcp;
            other[at] = byte;
            assert_eq!(read("match", "tcp", 0, &other), None, "{at}");
        }
        let udp = [0, 0, 255, 255, 53, 0, 53, 0, 0, 0];
        let ports = Part::Port { first: 53, last: 53, inverted: false };
        assert_eq!(read("match", "udp", 0, &udp), Some(ports));
        let to = [10, 44, 8, 20];
        let one = IpAddr::from(to);
        let older = [&[1, 0, 0, 0, 3, 0, 0, 0][..], &to, &to, &[0, 80, 0, 80]].concat();
        let leads = |ports| Part::Leads { addresses: Some((one, one)), ports };
        assert_eq!(read("target", "DNAT", 0, &older), Some(leads(Some((80, 80)))));
        let newer = [&[1, 0, 0, 0][..], &to, &[0; 12], &to, &[0; 12], &[0; 8]].concat();
        assert_eq!(read("target", "DNAT", 2, &newer), Some(leads(None)));
        let here = [&[1, 0, 0, 0, 2, 0, 0, 0][..], &[0; 8], &[0x20, 0xfb, 0x20, 0xfb]].concat();
        assert_eq!(
            read("target", "REDIRECT", 0, &here),
            Some(Part::Here { ports: Some((8443, 8443)) })
        );
        assert_eq!(
            read("target", "MARK", 2, &[1, 0, 0, 0, 255, 0, 0, 0]),
            Some(Part::Mark { mask: !255, mark: 1 })
        );
        for short in [&older[..19], &[]] {
            assert_eq!(read("target", "DNAT", 0, short), None);
        }
        assert_eq!(read("match", "owner", 1, &[0; 32]), None);
        assert_eq!(part("match", &[1, 2, 3], true), None);
    }
}
