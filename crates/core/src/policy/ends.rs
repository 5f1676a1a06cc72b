//! Senders or receivers that a policy names.

use crate::space::{AddressSet, Family, RelationSet};

/// Senders or receivers: addresses, and, for a host whose addresses are not listed, what they have to be
/// to it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ends(Vec<(RelationSet, AddressSet)>);

impl Ends {
    /// These addresses, whatever they are to the host.
    #[must_use]
    pub fn of(addresses: AddressSet) -> Self {
        Self(vec![(RelationSet::full(), addresses)])
    }

    /// Everybody.
    #[must_use]
    pub fn anybody() -> Self {
        Self::of(AddressSet::full())
    }

    /// For each relation to the host, the addresses; relations that are not named have none. Those with
    /// the same addresses are put together.
    #[must_use]
    pub fn by_relation(parts: impl IntoIterator<Item = (RelationSet, AddressSet)>) -> Self {
        let mut list: Vec<(RelationSet, AddressSet)> = Vec::new();
        for (relations, addresses) in parts {
            if addresses.is_empty() || relations.is_empty() {
                continue;
            }
            match list.iter_mut().find(|it| it.1 == addresses) {
                Some(known) => known.0 = known.0.union(relations),
                None => list.push((relations, addresses)),
            }
        }
        Self(list)
    }

    /// Disjoint sets of relations, each with its addresses.
    #[must_use]
    pub fn parts(&self) -> &[(RelationSet, AddressSet)] {
        &self.0
    }

    /// Those that are in both.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        let pairs = self.0.iter().flat_map(|one| other.0.iter().map(move |two| (one, two)));
        Self::by_relation(
            pairs.map(|(one, two)| (one.0.intersection(two.0), one.1.intersection(&two.1))),
        )
    }

    /// The addresses, whatever they have to be to the host.
    #[must_use]
    pub fn addresses(&self) -> AddressSet {
        self.0.iter().map(|it| it.1.clone()).collect()
    }

    /// Whether nobody is meant.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.iter().all(|it| it.1.is_empty())
    }

    /// Whether everybody is meant.
    #[must_use]
    pub fn is_full(&self) -> bool {
        matches!(&self.0[..], [(relations, addresses)] if relations.is_full() && addresses.is_full())
    }

    /// Whether any address of an IP version is meant.
    #[must_use]
    pub fn has(&self, family: Family) -> bool {
        self.0.iter().any(|it| it.1.has(family))
    }
}
