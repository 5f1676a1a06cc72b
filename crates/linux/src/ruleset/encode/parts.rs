//! What a rule program is in the kernel, part by part.

use std::collections::BTreeMap;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::Counted;
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{Chain, Element, Rule, Set};

/// What a counter counts: packets of a direction, for a decision.
pub(super) type Counts<'a> = (Direction, &'a RuleId, Counted);

/// What a rule program is in the kernel, by name. The same program has the same parts, and one that differs a little
/// has nearly the same.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Parts {
    pub chains: BTreeMap<String, ChainPart>,
    pub sets: BTreeMap<String, SetPart>,
}

/// A chain.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct ChainPart {
    pub chain: Chain,
    pub rules: Vec<RulePart>,
}

/// A rule, and what its first counter counts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct RulePart {
    pub rule: Rule,
    pub counts: Option<(Direction, RuleId, Counted)>,
}

/// A set or map that rules do not fill.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct SetPart {
    pub set: Set,
    pub elements: Vec<Element>,
    /// Whether its elements count packets for the decisions that they name, and of which direction.
    pub counts: Option<Direction>,
}
