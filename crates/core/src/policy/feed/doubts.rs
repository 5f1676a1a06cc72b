//! What speaks against taking what files say now.

use crate::space::{AddressSet, Family};
use std::fmt;

/// Something that a change of a place's files is hardly meant to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Doubt {
    /// There is nothing in them.
    Empty,
    /// They have less than half of what they had.
    Shrunk {
        /// How much they had.
        from: u128,
        /// How much they have.
        to: u128,
        /// What was counted.
        what: Counted,
    },
    /// They have twice as much as they had, or more.
    Grown {
        /// How much they had.
        from: u128,
        /// How much they have.
        to: u128,
        /// What was counted.
        what: Counted,
    },
    /// They have more than half of all addresses of an IP version.
    Everything(Family),
}

/// What is counted of a set of addresses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Counted {
    /// Ranges that do not touch.
    Ranges,
    /// IPv4 addresses.
    V4Addresses,
    /// IPv6 networks of 64 bits, begun ones too.
    V6Networks,
}

impl fmt::Display for Counted {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(match self {
            Self::Ranges => "ranges",
            Self::V4Addresses => "IPv4 addresses",
            Self::V6Networks => "IPv6 networks of 64 bits",
        })
    }
}

impl Doubt {
    /// The word by which somebody says that it is meant; there is none for nothing at all.
    #[must_use]
    pub fn word(&self) -> Option<&'static str> {
        match self {
            Self::Empty => None,
            Self::Shrunk { .. } => Some("shrunk"),
            Self::Grown { .. } => Some("grown"),
            Self::Everything(_) => Some("everything"),
        }
    }
}

/// Of short lists, so many ranges may come or go.
const FEW: u128 = 8;

/// What speaks against it; `before` is what the files said last, if that is known.
#[must_use]
pub fn doubts(before: Option<&AddressSet>, now: &AddressSet) -> Vec<Doubt> {
    if now.is_empty() {
        return vec![Doubt::Empty];
    }
    let mut found = Vec::new();
    let (v4, v6) = (addresses(now), networks(now));
    if v4 > 1 << 31 {
        found.push(Doubt::Everything(Family::V4));
    }
    // What is routed on the Internet is an eighth of all (RFC 4291, section 2.4).
    if v6 > 1 << 60 {
        found.push(Doubt::Everything(Family::V6));
    }
    let Some(before) = before.filter(|it| !it.is_empty()) else { return found };
    let counts = [
        (Counted::Ranges, ranges(before), ranges(now), FEW),
        (Counted::V4Addresses, addresses(before), v4, 1 << 16),
        (Counted::V6Networks, networks(before), v6, 1 << 16),
    ];
    for (what, from, to, few) in counts {
        if from.abs_diff(to) <= few {
            continue;
        }
        if to < from.div_ceil(2) {
            found.push(Doubt::Shrunk { from, to, what });
        } else if to >= from.saturating_mul(2) {
            found.push(Doubt::Grown { from, to, what });
        }
    }
    found
}

fn ranges(set: &AddressSet) -> u128 {
    // A number of things in memory fits.
    (set.v4.ranges().len() + set.v6.ranges().len()) as u128
}

fn addresses(set: &AddressSet) -> u128 {
    set.v4.ranges().iter().map(|(first, last)| u128::from(last - first) + 1).sum()
}

fn networks(set: &AddressSet) -> u128 {
    set.v6.ranges().iter().map(|(first, last)| (last >> 64) - (first >> 64) + 1).sum()
}
