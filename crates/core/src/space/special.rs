//! Addresses that are nobody's own.

use super::AddressSet;

/// The loopback addresses (RFC 1122 section 3.2.1.3, RFC 4291 section 2.5.3).
#[must_use]
pub fn loopback() -> AddressSet {
    let v4 = AddressSet::from_v4([(0x7f00_0000, 0x7fff_ffff)]);
    v4.union(&AddressSet::from_v6([(1, 1)]))
}

/// Addresses that are for many, or for nobody yet: multicast, the broadcast of every link and the
/// unspecified address (RFC 1112, RFC 919, RFC 4291).
#[must_use]
pub fn to_many() -> AddressSet {
    let v4 = AddressSet::from_v4([(0, 0), (0xe000_0000, 0xefff_ffff), (u32::MAX, u32::MAX)]);
    v4.union(&AddressSet::from_v6([(0, 0), (0xff << 120, u128::MAX)]))
}
