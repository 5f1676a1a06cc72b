//! Numbers of protocols (IANA "Assigned Internet Protocol Numbers").

/// Protocol number of ICMP (IANA protocol numbers).
pub const ICMP: u8 = 1;
/// Protocol number of IGMP.
pub(crate) const IGMP: u8 = 2;
/// Protocol number of TCP.
pub const TCP: u8 = 6;
/// Protocol number of UDP.
pub const UDP: u8 = 17;
/// Protocol number of ICMPv6.
pub const ICMPV6: u8 = 58;
