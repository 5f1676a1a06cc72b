//! What is made of rules of others, and why nothing is.

use super::flatten::TooMany;
use super::held::Place;
use super::judged::Differs;
use crate::plan::HostPlan;
use crate::policy::Diagnostic;
use crate::program::{RuleProgram, Test};
use crate::space::RangeSet;

/// A rule of others that the policy says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Taken {
    /// Where it stood.
    pub place: Place,
    /// The rules of the policy that say it.
    pub rules: Vec<String>,
}

/// A rule of others that the policy does not say.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct NotTaken {
    /// Where it stands.
    pub place: Place,
    /// Why, as the rest of a sentence.
    pub why: String,
    /// Whether it keeps something out that the policy may let in without it.
    pub keeps_out: bool,
}

/// A policy made of rules of others.
#[derive(Clone, Debug)]
pub struct Adopted {
    /// Its text.
    pub policy: String,
    /// What it means.
    pub plan: HostPlan,
    /// What others had, as a program: one chain for each direction, each rule under its place.
    pub theirs: RuleProgram,
    /// The rules that it says by rules of its own.
    pub taken: Vec<Taken>,
    /// The rules that decide about nothing but what the policy's baseline and defaults decide about alike.
    pub said_already: Vec<Place>,
    /// The rules that decide about no packet.
    pub idle: Vec<Place>,
    /// The rules that it cannot say.
    pub not_taken: Vec<NotTaken>,
    /// Packets that it treats otherwise.
    pub differs: Vec<Differs>,
}

impl Adopted {
    /// The ports that rules of others tell apart, whether they are taken or not: of each run the first and the last, and
    /// those beside them.
    #[must_use]
    pub fn ports(&self) -> RangeSet<u16> {
        let tests = self.theirs.chains.iter().flat_map(|it| &it.rules).flat_map(|it| &it.tests);
        let ports = tests.filter_map(|it| match it {
            Test::DestinationPort(ports) => Some(ports),
            _ => None,
        });
        let ends = ports.flat_map(RangeSet::ranges).flat_map(|&(first, last)| {
            [Some(first), first.checked_sub(1), Some(last), last.checked_add(1)]
        });
        RangeSet::from_ranges(ends.flatten().map(|it| (it, it)))
    }
}

/// What the host is called.
#[derive(Clone, Copy, Debug)]
pub struct Named<'n> {
    /// In the policy.
    pub host: &'n str,
    /// By itself, if that is something else.
    pub machine: Option<&'n str>,
}

/// Why no policy can be made.
#[derive(Debug)]
pub enum Trouble {
    /// There would be too many rules.
    TooMany(TooMany),
    /// What they mean is too much to be compared.
    TooComplex,
    /// What was written cannot be read.
    Unreadable(Vec<Diagnostic>),
}

impl From<TooMany> for Trouble {
    fn from(error: TooMany) -> Self {
        Self::TooMany(error)
    }
}
