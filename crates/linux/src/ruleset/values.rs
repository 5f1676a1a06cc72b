//! Field values as the kernel compares them: bytes in network order.

use std::net::Ipv6Addr;
use tipstaff_core::space::{Point, RangeSet};

/// A value with a fixed number of bytes in network order.
pub(crate) trait Key: Point {
    /// The number of bytes.
    const LENGTH: u32;
    fn to_key(self) -> Vec<u8>;
    fn from_key(key: &[u8]) -> Option<Self>;
}

macro_rules! key {
    ($($kind:ty),*) => {$(
        impl Key for $kind {
            // At most 16.
            #[allow(clippy::cast_possible_truncation)]
            const LENGTH: u32 = size_of::<$kind>() as u32;
            fn to_key(self) -> Vec<u8> {
                self.to_be_bytes().to_vec()
            }
            fn from_key(key: &[u8]) -> Option<Self> {
                key.try_into().ok().map(<$kind>::from_be_bytes)
            }
        }
    )*};
}
key!(u8, u16, u32, u128);

/// Ranges are spelled out as single values, which the kernel loads and finds fastest, if they
/// hold no more values than this on average.
const SHORT: usize = 2;

/// The ranges of a set as single values, if they are short.
pub(super) fn spelled_out<T: Key>(ranges: &[(T, T)]) -> Option<Vec<(T, T)>> {
    let most = SHORT * ranges.len();
    let mut values = Vec::with_capacity(most);
    for &(first, last) in ranges {
        let mut value = Some(first);
        while let Some(it) = value.filter(|it| *it <= last) {
            if values.len() == most {
                return None;
            }
            values.push((it, it));
            value = it.next();
        }
    }
    Some(values)
}

/// Ranges of keys back to a set.
pub(crate) fn set_of<T: Key>(ranges: &[(Vec<u8>, Vec<u8>)]) -> Option<RangeSet<T>> {
    let ranges: Option<Vec<(T, T)>> =
        ranges.iter().map(|(a, b)| Some((T::from_key(a)?, T::from_key(b)?))).collect();
    ranges.map(RangeSet::from_ranges)
}

/// The largest key before `key`.
pub(crate) fn before(key: &[u8]) -> Option<Vec<u8>> {
    let mut wide = [0; 16];
    let start = 16usize.checked_sub(key.len())?;
    wide[start..].copy_from_slice(key);
    let before = Ipv6Addr::from(wide).to_bits().checked_sub(1)?;
    Some(before.to_be_bytes()[start..].to_vec())
}

/// The largest key of a length.
pub(crate) fn largest(length: usize) -> Vec<u8> {
    vec![0xff; length]
}
