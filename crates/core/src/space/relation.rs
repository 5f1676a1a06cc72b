//! What an address is to the host, where that is the kernel's to say.

use serde::{Deserialize, Serialize};

/// What an address is to the host at the moment: one of its own, in a network that it is on, both or
/// neither. Of a host whose addresses the policy lists, nobody asks.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize,
)]
pub struct Relation {
    /// The kernel calls it local (`RTN_LOCAL` in linux/rtnetlink.h).
    pub own: bool,
    /// It is in the network of one of the host's own addresses.
    pub on_link: bool,
}

impl Relation {
    /// All four.
    pub const ALL: [Self; 4] = [
        Self { own: false, on_link: false },
        Self { own: false, on_link: true },
        Self { own: true, on_link: false },
        Self { own: true, on_link: true },
    ];

    pub(crate) fn number(self) -> u8 {
        u8::from(self.own) << 1 | u8::from(self.on_link)
    }
}

/// A set of relations.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct RelationSet(u8);

const FULL: u8 = 0b1111;

impl RelationSet {
    /// The relations that a function picks.
    #[must_use]
    pub fn of(picked: impl Fn(Relation) -> bool) -> Self {
        let bits = Relation::ALL.into_iter().filter(|it| picked(*it));
        Self(bits.fold(0, |bits, it| bits | 1 << it.number()))
    }

    /// Every relation.
    #[must_use]
    pub fn full() -> Self {
        Self(FULL)
    }

    /// No relation.
    #[must_use]
    pub fn empty() -> Self {
        Self(0)
    }

    /// Whether it holds every relation.
    #[must_use]
    pub fn is_full(self) -> bool {
        self.0 == FULL
    }

    /// Whether it holds none.
    #[must_use]
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// Whether it holds this one.
    #[must_use]
    pub fn contains(self, relation: Relation) -> bool {
        self.0 >> relation.number() & 1 == 1
    }

    /// The relations that both hold.
    #[must_use]
    pub fn intersection(self, other: Self) -> Self {
        Self(self.0 & other.0)
    }

    /// The relations that either holds.
    #[must_use]
    pub fn union(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// The relations that this set holds and the other does not.
    #[must_use]
    pub fn difference(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// The relations that it holds.
    pub fn iter(self) -> impl Iterator<Item = Relation> {
        Relation::ALL.into_iter().filter(move |it| self.contains(*it))
    }

    /// The set as alternatives of which each asks every question at most once: whether the address is
    /// the host's own, and whether it is on a link.
    #[must_use]
    pub fn asked(self) -> Vec<(Option<bool>, Option<bool>)> {
        if self.is_full() {
            return vec![(None, None)];
        }
        let with = |own: bool| self.intersection(Self::of(|it| it.own == own));
        let link = |part: Self| match (
            part.iter().any(|it| !it.on_link),
            part.iter().any(|it| it.on_link),
        ) {
            (true, true) => Some(None),
            (false, true) => Some(Some(true)),
            (true, false) => Some(Some(false)),
            (false, false) => None,
        };
        let (own, foreign) = (link(with(true)), link(with(false)));
        if own == foreign {
            return own.map(|link| (None, link)).into_iter().collect();
        }
        let part = |of: bool, link: Option<Option<bool>>| link.map(|link| (Some(of), link));
        part(true, own).into_iter().chain(part(false, foreign)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::{Relation, RelationSet};

    #[test]
    fn what_is_asked_holds_for_just_those_relations() {
        for bits in 0..16 {
            let set = RelationSet(bits);
            let asked = set.asked();
            for relation in Relation::ALL {
                let passes = |(own, link): &(Option<bool>, Option<bool>)| {
                    own.is_none_or(|it| it == relation.own)
                        && link.is_none_or(|it| it == relation.on_link)
                };
                let ways = asked.iter().filter(|it| passes(it)).count();
                assert_eq!(ways, usize::from(set.contains(relation)), "{set:?}: {asked:?}");
            }
        }
        assert_eq!(RelationSet::full().asked(), [(None, None)]);
        assert_eq!(RelationSet::of(|it| it.own).asked(), [(Some(true), None)]);
    }

    #[test]
    fn sets_are_those_of_arithmetic() {
        let own = RelationSet::of(|it| it.own);
        let linked = RelationSet::of(|it| it.on_link);
        assert_eq!(own.union(linked).difference(own), RelationSet::of(|it| !it.own && it.on_link));
        assert_eq!(own.intersection(linked).iter().count(), 1);
        assert!(own.difference(own).is_empty() && RelationSet::full().is_full());
        assert_eq!(RelationSet::empty().iter().count(), 0);
    }
}
