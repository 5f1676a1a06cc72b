//! Sets of names, such as those of interfaces or programs.

use std::collections::BTreeSet;
use std::sync::Arc;

/// A set of names: some, or all but some. What has no name, or one that nobody mentions, is in
/// the sets of the second kind.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum NameSet {
    /// These names, and nothing else.
    Only(BTreeSet<Arc<str>>),
    /// All but these names.
    AllBut(BTreeSet<Arc<str>>),
}

impl NameSet {
    /// A set that holds every name.
    #[must_use]
    pub fn full() -> Self {
        Self::AllBut(BTreeSet::new())
    }

    /// A set of just these names.
    #[must_use]
    pub fn only<'n>(names: impl IntoIterator<Item = &'n str>) -> Self {
        Self::Only(names.into_iter().map(Arc::from).collect())
    }

    /// All names but one.
    #[must_use]
    pub fn all_but(name: &str) -> Self {
        Self::AllBut(std::iter::once(Arc::from(name)).collect())
    }

    /// Whether no name is in the set.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        matches!(self, Self::Only(names) if names.is_empty())
    }

    /// Whether every name is in the set.
    #[must_use]
    pub fn is_full(&self) -> bool {
        matches!(self, Self::AllBut(names) if names.is_empty())
    }

    /// Whether the set holds a name; `None` is one that nobody mentions.
    #[must_use]
    pub fn contains(&self, name: Option<&str>) -> bool {
        match (self, name) {
            (Self::Only(names), Some(name)) => names.contains(name),
            (Self::Only(_), None) => false,
            (Self::AllBut(names), Some(name)) => !names.contains(name),
            (Self::AllBut(_), None) => true,
        }
    }

    /// A name of the set, one that nobody mentions if possible.
    #[must_use]
    pub fn example(&self) -> Option<&str> {
        match self {
            Self::Only(names) => names.first().map(|name| &**name),
            Self::AllBut(_) => None,
        }
    }

    /// What both sets hold.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        match (self, other) {
            (Self::AllBut(a), _) if a.is_empty() => other.clone(),
            (_, Self::AllBut(b)) if b.is_empty() => self.clone(),
            (Self::Only(a), Self::Only(b)) => Self::Only(a & b),
            (Self::Only(a), Self::AllBut(b)) | (Self::AllBut(b), Self::Only(a)) => {
                Self::Only(a - b)
            }
            (Self::AllBut(a), Self::AllBut(b)) => Self::AllBut(a | b),
        }
    }

    /// Whether the other set holds all that this one does.
    #[must_use]
    pub fn is_within(&self, other: &Self) -> bool {
        other.is_full() || self.difference(other).is_empty()
    }

    /// What this set holds and the other does not.
    #[must_use]
    pub fn difference(&self, other: &Self) -> Self {
        match (self, other) {
            (_, Self::AllBut(b)) if b.is_empty() => Self::Only(BTreeSet::new()),
            (Self::Only(a), Self::Only(b)) => Self::Only(a - b),
            (Self::Only(a), Self::AllBut(b)) => Self::Only(a & b),
            (Self::AllBut(a), Self::Only(b)) => Self::AllBut(a | b),
            (Self::AllBut(a), Self::AllBut(b)) => Self::Only(b - a),
        }
    }

    /// What either set holds.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        match (self, other) {
            (Self::Only(a), Self::Only(b)) => Self::Only(a | b),
            (Self::Only(a), Self::AllBut(b)) | (Self::AllBut(b), Self::Only(a)) => {
                Self::AllBut(b - a)
            }
            (Self::AllBut(a), Self::AllBut(b)) => Self::AllBut(a & b),
        }
    }
}
