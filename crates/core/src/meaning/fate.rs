//! What can become of a packet, as the leaves of diagrams.

use super::diagram::Diagram;
use crate::plan::RuleId;
use crate::policy::{Rate, Verdict};
use std::collections::HashMap;
use std::fmt;

/// What becomes of a packet.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Fate {
    /// No decision of the list takes it.
    Undecided,
    /// A decision gives the verdict.
    Decided {
        /// The decision that takes it.
        by: RuleId,
        /// What that decision does to it.
        verdict: Verdict,
    },
    /// A decision allows it while a rate is kept.
    Within {
        /// The decision that keeps the rate.
        by: RuleId,
        /// The rate that is kept.
        rate: Rate,
        /// What becomes of it beyond the rate.
        beyond: Box<Fate>,
    },
    /// Something that is not understood stands in its way.
    Unknown,
}

impl Fate {
    /// The decision that takes it, if one does.
    #[must_use]
    pub fn by(&self) -> Option<&RuleId> {
        match self {
            Self::Decided { by, .. } | Self::Within { by, .. } => Some(by),
            Self::Undecided | Self::Unknown => None,
        }
    }

    /// The verdict, for a packet within the rate.
    #[must_use]
    pub fn verdict(&self) -> Option<Verdict> {
        match self {
            Self::Decided { verdict, .. } => Some(*verdict),
            Self::Within { .. } => Some(Verdict::Allow),
            Self::Undecided | Self::Unknown => None,
        }
    }

    /// Whether packets go on beyond its rate, or the last of its rates.
    fn is_open(&self) -> bool {
        match self {
            Self::Within { beyond, .. } => **beyond == Self::Undecided || beyond.is_open(),
            _ => false,
        }
    }

    /// The same where packets that go on fare as told.
    fn going_on(self, then: &Self) -> Self {
        match self {
            Self::Within { by, rate, beyond } => {
                let beyond = match *beyond {
                    Self::Undecided => then.clone(),
                    beyond => beyond.going_on(then),
                };
                Self::Within { by, rate, beyond: Box::new(beyond) }
            }
            fate => fate,
        }
    }

    /// Whether packets fare alike, whoever decides.
    #[must_use]
    pub fn fares_like(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Decided { verdict: a, .. }, Self::Decided { verdict: b, .. }) => a == b,
            (
                Self::Within { rate: a, beyond: a_beyond, .. },
                Self::Within { rate: b, beyond: b_beyond, .. },
            ) => a == b && a_beyond.fares_like(b_beyond),
            (a, b) => a == b,
        }
    }
}

impl fmt::Display for Fate {
    /// `allow (catalogue)`, `allow 5/second (shell)`, `nothing decides`, `unknown`.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Undecided => out.write_str("nothing decides"),
            Self::Decided { by, verdict } => write!(out, "{} ({by})", verdict.as_str()),
            Self::Within { by, rate, .. } => write!(out, "allow {rate} ({by})"),
            Self::Unknown => out.write_str("unknown"),
        }
    }
}

/// Nothing decides; for diagrams that are sets, what is outside.
pub(crate) const NOTHING: Diagram = Diagram::leaf(0);
/// For diagrams that are sets: what is inside.
pub(super) const INSIDE: Diagram = Diagram::leaf(1);

/// Fates as numbers of leaves. The numbers 0 and 1 are taken.
#[derive(Clone, Debug, Default)]
pub(super) struct Fates {
    list: Vec<Fate>,
    numbers: HashMap<Fate, u32>,
}

const TAKEN: usize = 2;

impl Fates {
    /// The leaf of a fate.
    pub(super) fn leaf(&mut self, fate: Fate) -> Diagram {
        if fate == Fate::Undecided {
            return NOTHING;
        }
        let next = u32::try_from(self.list.len() + TAKEN).unwrap_or(u32::MAX);
        let number = *self.numbers.entry(fate).or_insert_with_key(|fate| {
            self.list.push(fate.clone());
            next
        });
        Diagram::leaf(number)
    }

    /// All of them, by their places.
    pub(super) fn all(&self) -> impl Iterator<Item = &Fate> {
        self.list.iter()
    }

    /// The place of the fate with a leaf's number, if that is not taken.
    pub(super) fn place(number: u32) -> Option<usize> {
        (number as usize).checked_sub(TAKEN)
    }

    /// The fate of a leaf's number.
    pub(super) fn fate(&self, number: u32) -> &Fate {
        Self::place(number).and_then(|at| self.list.get(at)).unwrap_or(&Fate::Undecided)
    }

    /// What becomes of packets of the first leaf, if packets beyond its rates go on to the second.
    pub(super) fn beyond(&mut self, first: u32, second: u32) -> Diagram {
        let fate = self.fate(first).clone().going_on(self.fate(second));
        self.leaf(fate)
    }

    /// Whether packets of this leaf go on beyond a rate.
    pub(crate) fn is_open(&self, number: u32) -> bool {
        self.fate(number).is_open()
    }
}
