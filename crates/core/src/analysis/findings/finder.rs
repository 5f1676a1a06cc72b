//! What a finder of findings is.

use super::super::lines::Lines;
use super::facts::Machine;
use super::finding::Finding;
use super::subjects::Subjects;
use crate::policy::{Code, Severity};

/// A kind of finding.
#[derive(Clone, Copy, Debug)]
pub struct FindingKind {
    /// The code by which people know it.
    pub code: Code,
    /// How bad such findings are at worst.
    pub severity: Severity,
    /// What it means, why it matters, and what to do about it.
    pub meaning: &'static str,
}

/// What a finder looks at.
#[derive(Clone, Copy)]
pub(super) enum Look {
    /// The rules of one direction.
    Rules(fn(&Subjects<'_>, &Lines<'_>) -> Vec<Finding>),
    /// The policy, for one host.
    Policy(fn(&Subjects<'_>) -> Vec<Finding>),
    /// A machine that the policy is for.
    Machine(fn(&Machine<'_>) -> Vec<Finding>),
}

/// What a finding can be about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scope {
    /// The policy by itself.
    Policy,
    /// The machine that it is for.
    Live,
}

/// Finds what is probably not meant.
#[derive(Clone, Copy)]
pub(super) struct Finder {
    /// The kinds of findings that it makes.
    pub kinds: &'static [FindingKind],
    /// How such findings are looked for.
    pub looks: &'static [Look],
}

impl Finder {
    /// What its findings can be about.
    pub(super) fn scopes(&self) -> impl Iterator<Item = Scope> {
        self.looks.iter().map(|look| match look {
            Look::Rules(_) | Look::Policy(_) => Scope::Policy,
            Look::Machine(_) => Scope::Live,
        })
    }
}
