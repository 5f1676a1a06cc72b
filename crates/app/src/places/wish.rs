//! What is asked for.

use tipstaff_core::policy::feed::Doubt;

/// What is meant although it looks like a mistake.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Although {
    /// There is less than half of what there was.
    Shrunk,
    /// There is twice as much as there was, or more.
    Grown,
    /// There is more than half of all addresses.
    Everything,
    /// The last line of a file has no end.
    CutOff,
}

impl Although {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Shrunk, Self::Grown, Self::Everything, Self::CutOff];

    /// The word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Shrunk => "shrunk",
            Self::Grown => "grown",
            Self::Everything => "everything",
            Self::CutOff => "cut-off",
        }
    }
}

/// Which places are to be read anew, and how.
#[derive(Clone, Copy, Debug)]
pub struct Wish<'w> {
    /// Their names; none: all whose addresses come from files.
    pub places: &'w [String],
    /// What is meant although it looks like a mistake.
    pub although: &'w [Although],
}

impl Wish<'_> {
    /// Whether that is meant.
    pub(super) fn means(&self, doubt: &Doubt) -> bool {
        doubt.word().is_some_and(|word| self.although.iter().any(|it| it.as_str() == word))
    }

    /// Whether a file whose last line has no end is taken.
    pub(super) fn takes_cut_off(&self) -> bool {
        self.although.contains(&Although::CutOff)
    }
}
