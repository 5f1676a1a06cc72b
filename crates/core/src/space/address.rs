//! Addresses of both IP versions: blocks as people write them, and exact sets.

use super::{Family, RangeSet};
use ipnet::{IpNet, Ipv4Subnets, Ipv6Subnets};
use serde::{Deserialize, Serialize};
use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::ops::{Add, Sub};

/// One written block of addresses: a network in CIDR notation or a single address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Block(IpNet);

/// Why a text is not a block of addresses.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum BlockError {
    /// Neither an IPv4 nor an IPv6 address stands before the slash.
    NotAnAddress,
    /// The part after the slash is not a prefix length from 0 to the given number of bits.
    BadPrefix {
        /// The address size in bits: 32 or 128.
        bits: u8,
    },
    /// Bits behind the prefix are set, so it is unclear whether the network or the one
    /// address is meant.
    HostBits {
        /// The network that the prefix denotes.
        network: String,
        /// The single address that was written.
        address: String,
    },
}

impl Block {
    /// Reads `10.44.8.0/24`, `fd44:8::/64`, `192.0.2.10` or `2001:db8:2::10`.
    ///
    /// # Errors
    /// [`BlockError`] says which part is wrong.
    ///
    /// # References
    /// RFC 4632 section 3.1, RFC 4291 section 2.3.
    pub fn parse(text: &str) -> Result<Self, BlockError> {
        let (address, prefix) = match text.split_once('/') {
            Some((address, prefix)) => (address, Some(prefix)),
            None => (text, None),
        };
        let address: IpAddr = address.parse().map_err(|_| BlockError::NotAnAddress)?;
        let Some(prefix) = prefix else {
            return Ok(Self(address.into()));
        };
        let bits = if address.is_ipv4() { 32 } else { 128 };
        let is_plain = !prefix.is_empty() && prefix.bytes().all(|byte| byte.is_ascii_digit());
        let net = prefix
            .parse()
            .ok()
            .filter(|_| is_plain)
            .and_then(|length| IpNet::new(address, length).ok())
            .ok_or(BlockError::BadPrefix { bits })?;
        if net.trunc() == net {
            Ok(Self(net))
        } else {
            Err(BlockError::HostBits {
                network: net.trunc().to_string(),
                address: address.to_string(),
            })
        }
    }

    /// Reads an address with the length of its network's prefix, `192.0.2.10/24`, as the address
    /// and the network. Gives `None` for anything else, the network's own address included.
    #[must_use]
    pub(crate) fn parse_with_network(text: &str) -> Option<(IpAddr, Self)> {
        let (address, prefix) = text.split_once('/')?;
        let is_plain = prefix.bytes().all(|byte| byte.is_ascii_digit());
        let length = prefix.parse().ok().filter(|_| is_plain)?;
        let net = IpNet::new(address.parse().ok()?, length).ok()?;
        // Both addresses of a point-to-point link are hosts' (RFC 3021, RFC 6164).
        let point_to_point = net.prefix_len() + 1 == net.max_prefix_len();
        (net.trunc() != net || point_to_point).then(|| (net.addr(), Self(net.trunc())))
    }

    /// The addresses of the block.
    #[must_use]
    pub fn addresses(&self) -> AddressSet {
        let (first, last) = (self.0.network(), self.0.broadcast());
        match (first, last) {
            (IpAddr::V4(first), IpAddr::V4(last)) => {
                AddressSet::from_v4([(first.to_bits(), last.to_bits())])
            }
            (IpAddr::V6(first), IpAddr::V6(last)) => {
                AddressSet::from_v6([(first.to_bits(), last.to_bits())])
            }
            _ => unreachable!("both ends of a network are of one IP version"),
        }
    }

    /// The first and the last address.
    #[must_use]
    pub(crate) fn ends(&self) -> (IpAddr, IpAddr) {
        (self.0.network(), self.0.broadcast())
    }

    /// Of an IPv4 network with more than two addresses: the first and the last, which is that of its
    /// broadcasts (RFC 919; the first was one once, RFC 1122 section 3.3.6).
    #[must_use]
    pub(crate) fn broadcasts(&self) -> Option<[IpAddr; 2]> {
        let wide = self.0.prefix_len() + 1 < self.0.max_prefix_len();
        let ends = || [self.0.network(), self.0.broadcast()];
        (wide && self.0.addr().is_ipv4()).then(ends)
    }

    /// The address, when the block is a single one.
    #[must_use]
    pub(crate) fn as_single(&self) -> Option<IpAddr> {
        (self.0.prefix_len() == self.0.max_prefix_len()).then(|| self.0.addr())
    }
}

impl fmt::Display for Block {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.as_single() {
            Some(address) => address.fmt(out),
            None => self.0.fmt(out),
        }
    }
}

/// Why a text is not a range of addresses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RangeError {
    /// The part before or behind the hyphen is not an address.
    NotAnAddress,
    /// The two ends are of different IP versions.
    MixedVersions,
    /// The first address is above the last one.
    Backwards,
}

/// Reads `10.44.8.20-10.44.8.29`: all addresses from one to another.
///
/// # Errors
/// [`RangeError`] says what is wrong.
pub(crate) fn address_range(first: &str, last: &str) -> Result<AddressSet, RangeError> {
    let address = |text: &str| text.parse::<IpAddr>().map_err(|_| RangeError::NotAnAddress);
    match (address(first)?, address(last)?) {
        (first, last) if first.is_ipv4() == last.is_ipv4() && first > last => {
            Err(RangeError::Backwards)
        }
        (IpAddr::V4(first), IpAddr::V4(last)) => {
            Ok(AddressSet::from_v4([(first.to_bits(), last.to_bits())]))
        }
        (IpAddr::V6(first), IpAddr::V6(last)) => {
            Ok(AddressSet::from_v6([(first.to_bits(), last.to_bits())]))
        }
        _ => Err(RangeError::MixedVersions),
    }
}

/// An exact set of addresses; IPv4 and IPv6 are kept apart and never mixed.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(into = "Vec<String>", try_from = "Vec<String>")]
pub struct AddressSet {
    /// The IPv4 addresses, as numbers in host order.
    pub v4: RangeSet<u32>,
    /// The IPv6 addresses, as numbers in host order.
    pub v6: RangeSet<u128>,
}

impl Default for AddressSet {
    fn default() -> Self {
        Self::empty()
    }
}

impl AddressSet {
    /// A set that holds no address.
    #[must_use]
    pub fn empty() -> Self {
        Self { v4: RangeSet::empty(), v6: RangeSet::empty() }
    }

    /// Every address of both versions.
    #[must_use]
    pub fn full() -> Self {
        Self { v4: RangeSet::full(), v6: RangeSet::full() }
    }

    /// The IPv4 addresses of some ranges, ends included.
    #[must_use]
    pub fn from_v4(ranges: impl IntoIterator<Item = (u32, u32)>) -> Self {
        Self { v4: RangeSet::from_ranges(ranges), v6: RangeSet::empty() }
    }

    /// The IPv6 addresses of some ranges, ends included.
    #[must_use]
    pub fn from_v6(ranges: impl IntoIterator<Item = (u128, u128)>) -> Self {
        Self { v4: RangeSet::empty(), v6: RangeSet::from_ranges(ranges) }
    }

    /// A set of one address.
    #[must_use]
    pub fn single(address: IpAddr) -> Self {
        match address {
            IpAddr::V4(address) => Self::from_v4([(address.to_bits(), address.to_bits())]),
            IpAddr::V6(address) => Self::from_v6([(address.to_bits(), address.to_bits())]),
        }
    }

    /// Whether the set holds `address`.
    #[must_use]
    pub fn contains(&self, address: IpAddr) -> bool {
        match address {
            IpAddr::V4(address) => self.v4.contains(address.to_bits()),
            IpAddr::V6(address) => self.v6.contains(address.to_bits()),
        }
    }

    /// Whether the set holds no address of either version.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.v4.is_empty() && self.v6.is_empty()
    }

    /// Whether the set holds every address of both versions.
    #[must_use]
    pub fn is_full(&self) -> bool {
        self.v4.is_full() && self.v6.is_full()
    }

    /// Whether the set holds any address of `family`.
    #[must_use]
    pub fn has(&self, family: Family) -> bool {
        match family {
            Family::V4 => !self.v4.is_empty(),
            Family::V6 => !self.v6.is_empty(),
        }
    }

    /// Whether the set holds every address of `family`.
    #[must_use]
    pub fn has_all(&self, family: Family) -> bool {
        match family {
            Family::V4 => self.v4.is_full(),
            Family::V6 => self.v6.is_full(),
        }
    }

    /// The part of one IP version.
    #[must_use]
    pub fn only(&self, family: Family) -> Self {
        match family {
            Family::V4 => Self { v4: self.v4.clone(), v6: RangeSet::empty() },
            Family::V6 => Self { v4: RangeSet::empty(), v6: self.v6.clone() },
        }
    }

    /// What either set holds.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        Self { v4: self.v4.union(&other.v4), v6: self.v6.union(&other.v6) }
    }

    /// What both sets hold.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        Self { v4: self.v4.intersection(&other.v4), v6: self.v6.intersection(&other.v6) }
    }

    /// What this set holds and the other does not.
    #[must_use]
    pub fn difference(&self, other: &Self) -> Self {
        Self { v4: self.v4.difference(&other.v4), v6: self.v6.difference(&other.v6) }
    }

    /// Whether the other set holds all that this one does.
    #[must_use]
    pub fn is_within(&self, other: &Self) -> bool {
        self.v4.is_within(&other.v4) && self.v6.is_within(&other.v6)
    }

    /// The lowest address of `family` in the set.
    #[must_use]
    pub fn first(&self, family: Family) -> Option<IpAddr> {
        match family {
            Family::V4 => self.v4.first().map(|bits| Ipv4Addr::from_bits(bits).into()),
            Family::V6 => self.v6.first().map(|bits| Ipv6Addr::from_bits(bits).into()),
        }
    }

    /// An address of `family` in the set that a machine could have and speak from, if there is one: for many, for
    /// nobody and of loopback are the last resort. The second of the lowest range where there is one, since the first
    /// is often the network itself.
    #[must_use]
    pub fn likely(&self, family: Family) -> Option<IpAddr> {
        match family {
            Family::V4 => likely(self.v4.ranges(), &ORDINARY_V4, 1)
                .map(|bits| Ipv4Addr::from_bits(bits).into()),
            Family::V6 => likely(self.v6.ranges(), &ORDINARY_V6, 1)
                .map(|bits| Ipv6Addr::from_bits(bits).into()),
        }
    }

    /// How many addresses there are; very many are taken for as many as can be counted.
    #[must_use]
    pub fn size(&self) -> u128 {
        let v4 = self.v4.ranges().iter().map(|(first, last)| u128::from(last - first) + 1);
        let v6 = self.v6.ranges().iter().map(|(first, last)| (last - first).saturating_add(1));
        v4.chain(v6).fold(0, u128::saturating_add)
    }

    /// The smallest list of networks that make up the set, IPv4 first.
    #[must_use]
    pub fn blocks(&self) -> Vec<Block> {
        let v4 = self.v4.ranges().iter().flat_map(|&(first, last)| {
            Ipv4Subnets::new(Ipv4Addr::from_bits(first), Ipv4Addr::from_bits(last), 0)
                .map(|net| Block(net.into()))
        });
        let v6 = self.v6.ranges().iter().flat_map(|&(first, last)| {
            Ipv6Subnets::new(Ipv6Addr::from_bits(first), Ipv6Addr::from_bits(last), 0)
                .map(|net| Block(net.into()))
        });
        v4.chain(v6).collect()
    }
}

/// Addresses of single machines (RFC 6890), in the order of preference.
const ORDINARY_V4: [(u32, u32); 2] = [(0x0100_0000, 0x7eff_ffff), (0x8000_0000, 0xdfff_ffff)];
/// Likewise: those for documentation (RFC 3849), global ones (RFC 4291), and those within a site (RFC 4193).
const ORDINARY_V6: [(u128, u128); 3] = [
    (0x2001_0db8 << 96, (0x2001_0db9 << 96) - 1),
    (0x2 << 124, (0x4 << 124) - 1),
    (0xfc << 120, (0xfe << 120) - 1),
];

/// What is likely among sorted ranges, of the first of `ordinary` that they hold something of.
fn likely<T: Copy + Ord + Sub<Output = T> + Add<Output = T>>(
    ranges: &[(T, T)],
    ordinary: &[(T, T)],
    one: T,
) -> Option<T> {
    let of = |&(low, high): &(T, T)| {
        let at = ranges.partition_point(|it| it.1 < low);
        ranges.get(at).filter(|it| it.0 <= high).map(|it| (it.0.max(low), it.1.min(high)))
    };
    let (first, last) = ordinary.iter().find_map(of).or(ranges.first().copied())?;
    Some(if last - first > one { first + one } else { first })
}

impl From<AddressSet> for Vec<String> {
    /// The networks of [`AddressSet::blocks`] in CIDR notation.
    fn from(set: AddressSet) -> Self {
        set.blocks().iter().map(ToString::to_string).collect()
    }
}

impl TryFrom<Vec<String>> for AddressSet {
    type Error = String;

    /// What the networks hold together, in any order.
    fn try_from(blocks: Vec<String>) -> Result<Self, String> {
        let block = |text: String| match Block::parse(&text) {
            Ok(block) => Ok(block.addresses()),
            Err(_) => Err(format!("`{}` is no network", text.escape_debug())),
        };
        blocks.into_iter().map(block).collect()
    }
}

impl FromIterator<AddressSet> for AddressSet {
    fn from_iter<I: IntoIterator<Item = AddressSet>>(sets: I) -> Self {
        let (mut v4, mut v6) = (Vec::new(), Vec::new());
        for set in sets {
            v4.extend_from_slice(set.v4.ranges());
            v6.extend_from_slice(set.v6.ranges());
        }
        Self { v4: RangeSet::from_ranges(v4), v6: RangeSet::from_ranges(v6) }
    }
}

impl fmt::Display for AddressSet {
    /// Networks in CIDR notation, separated by commas; `anywhere` for every address.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.is_full() {
            return out.write_str("anywhere");
        }
        for (index, block) in self.blocks().iter().enumerate() {
            let comma = if index > 0 { ", " } else { "" };
            write!(out, "{comma}{block}")?;
        }
        Ok(())
    }
}

/// Of several addresses the one of `to`'s IP version that shares the longest beginning with it,
/// as machines of one network do; of equals, the first.
pub fn closest(addresses: impl Iterator<Item = IpAddr>, to: IpAddr) -> Option<IpAddr> {
    let shared = |address: IpAddr| match (address, to) {
        (IpAddr::V4(a), IpAddr::V4(b)) => Some((a.to_bits() ^ b.to_bits()).leading_zeros()),
        (IpAddr::V6(a), IpAddr::V6(b)) => Some((a.to_bits() ^ b.to_bits()).leading_zeros()),
        _ => None,
    };
    let mut best = None;
    for (address, bits) in addresses.filter_map(|it| Some((it, shared(it)?))) {
        if best.is_none_or(|(_, most)| bits > most) {
            best = Some((address, bits));
        }
    }
    best.map(|(address, _)| address)
}

#[cfg(test)]
mod tests {
    use super::{AddressSet, Block, BlockError, closest};
    use std::net::IpAddr;

    #[test]
    fn the_closest_address_is_the_one_on_the_same_side() {
        let own: [IpAddr; 2] = [[192, 0, 2, 10].into(), [10, 44, 8, 10].into()];
        let closest = |to: [u8; 4]| closest(own.into_iter(), to.into());
        assert_eq!(closest([10, 44, 8, 30]), Some(own[1]));
        assert_eq!(closest([198, 51, 100, 7]), Some(own[0]));
        assert_eq!(super::closest(own.into_iter(), "fd44:8::30".parse().expect("address")), None);
    }

    #[test]
    fn blocks_read_back_as_written() {
        for text in ["198.51.100.0/27", "192.0.2.10", "2001:db8:51::/64", "2001:db8:2::10", "::/0"]
        {
            assert_eq!(Block::parse(text).map(|block| block.to_string()).as_deref(), Ok(text));
        }
    }

    #[test]
    fn unclear_blocks_are_refused_with_both_readings() {
        assert_eq!(
            Block::parse("10.44.8.20/24"),
            Err(BlockError::HostBits {
                network: "10.44.8.0/24".into(),
                address: "10.44.8.20".into()
            })
        );
        assert_eq!(Block::parse("10.44.8.0/33"), Err(BlockError::BadPrefix { bits: 32 }));
        assert_eq!(Block::parse("fd44:8::/+9"), Err(BlockError::BadPrefix { bits: 128 }));
        assert_eq!(Block::parse("10.44.8"), Err(BlockError::NotAnAddress));
    }

    #[test]
    fn a_difference_prints_as_the_fewest_networks() {
        let parse = |text: &str| Block::parse(text).map(|block| block.addresses());
        let net = parse("10.44.8.0/24").expect("a network");
        let host = parse("10.44.8.128/25").expect("a network");
        assert_eq!(net.difference(&host).to_string(), "10.44.8.0/25");
        assert_eq!(AddressSet::full().to_string(), "anywhere");
        assert!(net.difference(&net).is_empty());
    }
}
