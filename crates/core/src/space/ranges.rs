//! Sets of ordered values, kept as sorted ranges that neither touch nor overlap.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::sync::Arc;

/// A value of a finite, ordered field, such as a port or an address.
pub trait Point: Copy + Ord + fmt::Debug {
    /// The smallest value that there is.
    const MIN: Self;
    /// The largest value that there is.
    const MAX: Self;
    /// The value after this one, or `None` at [`Point::MAX`].
    fn next(self) -> Option<Self>;
    /// The value before this one, or `None` at [`Point::MIN`].
    fn previous(self) -> Option<Self>;
}

macro_rules! point {
    ($($kind:ty),*) => {$(
        impl Point for $kind {
            const MIN: Self = <$kind>::MIN;
            const MAX: Self = <$kind>::MAX;
            fn next(self) -> Option<Self> {
                self.checked_add(1)
            }
            fn previous(self) -> Option<Self> {
                self.checked_sub(1)
            }
        }
    )*};
}
point!(u8, u16, u32, u128);

/// A set of values as sorted inclusive ranges `(first, last)`.
///
/// The form is canonical: ranges are ascending, disjoint and never adjacent, so two sets are
/// equal exactly when they hold the same values. Copies share the ranges.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Default, Serialize, Deserialize)]
#[serde(into = "Vec<(T, T)>", from = "Vec<(T, T)>")]
#[serde(bound(serialize = "T: Point + Serialize", deserialize = "T: Point + Deserialize<'de>"))]
pub struct RangeSet<T>(Ranges<T>);

/// Most sets are one range at most: those need no memory of their own.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
enum Ranges<T> {
    #[default]
    None,
    One((T, T)),
    /// Two ranges or more, shared between copies.
    Many(Arc<[(T, T)]>),
}

impl<T: Point> From<Vec<(T, T)>> for Ranges<T> {
    fn from(ranges: Vec<(T, T)>) -> Self {
        match ranges[..] {
            [] => Self::None,
            [range] => Self::One(range),
            _ => Self::Many(ranges.into()),
        }
    }
}

impl<T: Point> FromIterator<(T, T)> for Ranges<T> {
    /// Of ranges that are ascending and apart.
    fn from_iter<I: IntoIterator<Item = (T, T)>>(ranges: I) -> Self {
        let mut ranges = ranges.into_iter();
        let Some(first) = ranges.next() else { return Self::None };
        let Some(second) = ranges.next() else { return Self::One(first) };
        Self::Many([first, second].into_iter().chain(ranges).collect())
    }
}

impl<T: Point> From<Vec<(T, T)>> for RangeSet<T> {
    fn from(ranges: Vec<(T, T)>) -> Self {
        Self::from_ranges(ranges)
    }
}

impl<T: Point> From<RangeSet<T>> for Vec<(T, T)> {
    fn from(set: RangeSet<T>) -> Self {
        set.ranges().to_vec()
    }
}

impl<T: Point> RangeSet<T> {
    /// The set that holds nothing.
    #[must_use]
    pub fn empty() -> Self {
        Self(Ranges::None)
    }

    /// The set that holds every value.
    #[must_use]
    pub fn full() -> Self {
        Self(Ranges::One((T::MIN, T::MAX)))
    }

    /// The set of one value.
    #[must_use]
    pub fn single(value: T) -> Self {
        Self(Ranges::One((value, value)))
    }

    /// The union of inclusive ranges in any order; a range whose ends are swapped is read as
    /// if they were not.
    #[must_use]
    pub fn from_ranges(ranges: impl IntoIterator<Item = (T, T)>) -> Self {
        let mut ranges = ranges.into_iter().map(|(a, b)| (a.min(b), a.max(b)));
        let Some(first) = ranges.next() else { return Self::empty() };
        let Some(second) = ranges.next() else { return Self(Ranges::One(first)) };
        let mut sorted = vec![first, second];
        sorted.extend(ranges);
        sorted.sort_unstable();
        sorted.dedup_by(|(first, last), open| {
            let joins = open.1.next().is_none_or(|after| *first <= after);
            if joins {
                open.1 = open.1.max(*last);
            }
            joins
        });
        Self(sorted.into())
    }

    /// Its ranges, ascending and apart from each other.
    #[must_use]
    pub fn ranges(&self) -> &[(T, T)] {
        match &self.0 {
            Ranges::None => &[],
            Ranges::One(range) => std::slice::from_ref(range),
            Ranges::Many(ranges) => ranges,
        }
    }

    /// Whether the set holds nothing.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        matches!(self.0, Ranges::None)
    }

    /// Whether the set holds every value.
    #[must_use]
    pub fn is_full(&self) -> bool {
        self.0 == Ranges::One((T::MIN, T::MAX))
    }

    /// Whether the set holds `value`; logarithmic in the number of ranges.
    #[must_use]
    pub fn contains(&self, value: T) -> bool {
        let ranges = self.ranges();
        let after = ranges.partition_point(|range| range.0 <= value);
        after > 0 && value <= ranges[after - 1].1
    }

    /// The smallest value held.
    #[must_use]
    pub fn first(&self) -> Option<T> {
        self.ranges().first().map(|range| range.0)
    }

    /// What either set holds.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        let (many, few) = self.by_length(other);
        match few.ranges() {
            [] => many.clone(),
            &[(first, last)] => {
                let ranges = many.ranges();
                // The ranges that touch or overlap it become one with it.
                let from = ranges.partition_point(|it| it.1.next().is_some_and(|it| it < first));
                let to =
                    ranges.partition_point(|it| last.next().is_none_or(|behind| it.0 <= behind));
                let joined = match (ranges.get(from), ranges[..to].last()) {
                    (Some(low), Some(high)) if from < to => (first.min(low.0), last.max(high.1)),
                    _ => (first, last),
                };
                match (&ranges[..from], &ranges[to..]) {
                    ([], []) => Self(Ranges::One(joined)),
                    // All of it was held.
                    _ if ranges[from..to] == [joined] => many.clone(),
                    (before, behind) => Self([before, &[joined], behind].concat().into()),
                }
            }
            _ => Self::from_ranges(self.ranges().iter().chain(other.ranges()).copied()),
        }
    }

    /// Whether both sets hold some value.
    #[must_use]
    pub fn meets(&self, other: &Self) -> bool {
        let (mut ours, mut theirs) = (self.ranges(), other.ranges());
        while let (Some(one), Some(two)) = (ours.first(), theirs.first()) {
            if one.1 < two.0 {
                ours = &ours[1..];
            } else if two.1 < one.0 {
                theirs = &theirs[1..];
            } else {
                return true;
            }
        }
        false
    }

    /// Whether the other set holds all that this one does.
    #[must_use]
    pub fn is_within(&self, other: &Self) -> bool {
        self.ranges().iter().all(|range| match other.overlapping(*range) {
            [it] => it.0 <= range.0 && range.1 <= it.1,
            _ => false,
        })
    }

    /// The set of more ranges, and the other one.
    fn by_length<'s>(&'s self, other: &'s Self) -> (&'s Self, &'s Self) {
        if self.ranges().len() < other.ranges().len() { (other, self) } else { (self, other) }
    }

    /// The ranges of this set that overlap the given one.
    fn overlapping(&self, (first, last): (T, T)) -> &[(T, T)] {
        let ranges = self.ranges();
        let behind = &ranges[ranges.partition_point(|it| it.1 < first)..];
        &behind[..behind.partition_point(|it| it.0 <= last)]
    }

    /// What both sets hold.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        let (many, few) = self.by_length(other);
        if few.is_full() {
            return many.clone();
        }
        let shared = few.ranges().iter().flat_map(|&range| {
            many.overlapping(range).iter().map(move |it| (it.0.max(range.0), it.1.min(range.1)))
        });
        Self(shared.collect())
    }

    /// What this set holds and the other does not.
    #[must_use]
    pub fn difference(&self, other: &Self) -> Self {
        if self.is_empty() || other.is_empty() {
            return self.clone();
        }
        let mut left = Vec::with_capacity(self.ranges().len());
        for &(first, last) in self.ranges() {
            let mut open = Some(first);
            for &(from, to) in other.overlapping((first, last)) {
                if let (Some(start), Some(end)) = (open, from.previous())
                    && start <= end
                {
                    left.push((start, end));
                }
                open = to.next();
            }
            left.extend(open.filter(|start| *start <= last).map(|start| (start, last)));
        }
        Self(left.into())
    }
}

impl<T: Point + fmt::Display> fmt::Display for RangeSet<T> {
    /// As people write it: `80, 443, 8000-8080`.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, (first, last)) in self.ranges().iter().enumerate() {
            if index > 0 {
                out.write_str(", ")?;
            }
            if first == last {
                write!(out, "{first}")?;
            } else {
                write!(out, "{first}-{last}")?;
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::RangeSet;
    use proptest::prelude::{Strategy, any, proptest};
    use std::collections::BTreeSet;

    fn sets() -> impl Strategy<Value = RangeSet<u8>> {
        proptest::collection::vec(any::<(u8, u8)>(), 0..6).prop_map(RangeSet::from_ranges)
    }

    fn members(set: &RangeSet<u8>) -> BTreeSet<u8> {
        (0..=255).filter(|&value| set.contains(value)).collect()
    }

    fn is_canonical(set: &RangeSet<u8>) -> bool {
        set.ranges().iter().all(|range| range.0 <= range.1)
            && set
                .ranges()
                .windows(2)
                .all(|pair| pair[0].1.checked_add(1).is_some_and(|after| after < pair[1].0))
    }

    proptest! {
        #[test]
        fn operations_agree_with_listing_every_value(a in sets(), b in sets()) {
            let (in_a, in_b) = (members(&a), members(&b));
            let all: BTreeSet<u8> = (0..=255).collect();
            for (set, expected) in [
                (a.union(&b), &in_a | &in_b),
                (a.intersection(&b), &in_a & &in_b),
                (RangeSet::full().difference(&a), &all - &in_a),
                (a.difference(&b), &in_a - &in_b),
            ] {
                assert!(is_canonical(&set), "{set:?}");
                assert_eq!(members(&set), expected);
            }
            assert_eq!(a == b, in_a == in_b);
            assert_eq!(a.is_within(&b), in_a.is_subset(&in_b));
            assert!(a.intersection(&b).is_within(&a));
        }
    }

    #[test]
    fn adjacent_ranges_become_one_and_print_as_people_write_them() {
        let set = RangeSet::<u16>::from_ranges([(443, 443), (81, 90), (80, 80), (9100, 9100)]);
        assert_eq!(set.to_string(), "80-90, 443, 9100");
        assert!(set.union(&RangeSet::full().difference(&set)).is_full());
    }
}
