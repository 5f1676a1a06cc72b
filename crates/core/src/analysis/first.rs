//! Of many differences the first.

use crate::plan::Act;

/// Which differences come first, and how many of them are wanted.
#[derive(Clone, Copy, Debug)]
pub struct First {
    /// Where a difference between two acts stands in the list.
    pub rank: fn(Act, Act) -> usize,
    /// So many are given.
    pub most: usize,
}

impl First {
    /// All, as they are found.
    pub const ALL: Self = Self { rank: |_, _| 0, most: usize::MAX };

    /// Sorts what comes first to the front; gives the acts of what is not wanted, and leaves it out.
    pub(super) fn sort<T>(
        self,
        list: &mut Vec<T>,
        acts: impl Fn(&T) -> (Act, Act),
    ) -> Vec<(Act, Act)> {
        list.sort_by_key(|it| {
            let (before, after) = acts(it);
            (self.rank)(before, after)
        });
        let others = list.iter().skip(self.most).map(acts).collect();
        list.truncate(self.most);
        others
    }
}
