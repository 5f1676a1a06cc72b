//! Kinds of ICMP messages by what they mean, whichever IP version they come in.

/// A kind of message. Where one version has no such message, its list is empty.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct IcmpKind {
    /// Its name in traffic terms.
    pub name: &'static str,
    /// Its type in ICMP (IANA "ICMP Type Numbers").
    pub v4: Option<u8>,
    /// Its type in ICMPv6 (IANA "ICMPv6 \"type\" Numbers").
    pub v6: Option<u8>,
}

const fn kind(name: &'static str, v4: Option<u8>, v6: Option<u8>) -> IcmpKind {
    IcmpKind { name, v4, v6 }
}

/// The kinds that can be named (RFC 792, RFC 950, RFC 1256, RFC 4443, RFC 4861, RFC 2710,
/// RFC 3810).
pub(crate) const ICMP_KINDS: &[IcmpKind] = &[
    kind("echo-request", Some(8), Some(128)),
    kind("echo-reply", Some(0), Some(129)),
    kind("destination-unreachable", Some(3), Some(1)),
    kind("packet-too-big", None, Some(2)),
    kind("time-exceeded", Some(11), Some(3)),
    kind("parameter-problem", Some(12), Some(4)),
    kind("redirect", Some(5), Some(137)),
    kind("router-solicitation", Some(10), Some(133)),
    kind("router-advertisement", Some(9), Some(134)),
    kind("neighbour-solicitation", None, Some(135)),
    kind("neighbour-advertisement", None, Some(136)),
    kind("timestamp-request", Some(13), None),
    kind("timestamp-reply", Some(14), None),
    kind("listener-query", None, Some(130)),
    kind("listener-report", None, Some(131)),
    kind("listener-done", None, Some(132)),
    kind("listener-report-v2", None, Some(143)),
];

/// The kinds that can be named.
pub fn icmp_kinds() -> impl Iterator<Item = &'static IcmpKind> {
    ICMP_KINDS.iter()
}
