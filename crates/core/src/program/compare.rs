//! Where two rule programs differ.

use super::model::{ProgramRule, RuleProgram};
use crate::plan::HostPlan;
use crate::policy::{Logging, Record, Taken};
use std::collections::HashMap;
use std::fmt;

/// One difference between the program that was meant and the one that was found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Drift {
    /// A chain is not there.
    MissingChain(String),
    /// There is a chain that was not meant.
    ExtraChain(String),
    /// A chain hangs elsewhere, or lets undecided packets fare otherwise.
    ChangedChain(String),
    /// A rule is not there.
    MissingRule {
        /// The chain it was meant for.
        chain: String,
        /// The rule that only one side has.
        rule: ProgramRule,
    },
    /// There is a rule that was not meant.
    ExtraRule {
        /// The chain it is in.
        chain: String,
        /// The rule that only one side has.
        rule: ProgramRule,
    },
    /// Rules that are in both stand in another order.
    Reordered(String),
    /// At some of the ports meant, new connections from where old ones came are not led to the
    /// listener. At more ports than meant they may be: a rule that has ended may have asked for it.
    Reopened,
    /// The networks that the host is on are others than those found.
    Moved,
    /// It remembers others than are to be remembered, or for another time.
    Record,
    /// It reports other decisions than are to be reported whatever the time is, or others at most.
    Logging,
    /// It says that another posture is in force.
    Posture,
}

impl Drift {
    /// The rule that is missing or too many.
    #[must_use]
    pub fn rule(&self) -> Option<&ProgramRule> {
        match self {
            Self::MissingRule { rule, .. } | Self::ExtraRule { rule, .. } => Some(rule),
            _ => None,
        }
    }

    /// Whether rules differ, and not only what is said or done besides.
    #[must_use]
    pub fn is_of_rules(&self) -> bool {
        match self {
            Self::MissingChain(_)
            | Self::ExtraChain(_)
            | Self::ChangedChain(_)
            | Self::MissingRule { .. }
            | Self::ExtraRule { .. }
            | Self::Reordered(_) => true,
            Self::Reopened | Self::Moved | Self::Record | Self::Logging | Self::Posture => false,
        }
    }
}

impl fmt::Display for Drift {
    /// What the kernel has otherwise than the policy asks, as a sentence.
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        let of = |rule: &ProgramRule| {
            rule.id.as_ref().map_or_else(|| "a lookup".into(), |id| format!("`{id}`"))
        };
        match self {
            Self::MissingChain(chain) => write!(out, "the kernel has no chain `{chain}`"),
            Self::ExtraChain(chain) => {
                write!(out, "the kernel has a chain `{chain}` that the policy does not ask for")
            }
            Self::ChangedChain(chain) => write!(
                out,
                "the kernel's chain `{chain}` hangs or ends otherwise than the policy asks"
            ),
            Self::MissingRule { chain, rule } => {
                write!(out, "the kernel lacks a part of {} ({chain}): {rule}", of(rule))
            }
            Self::ExtraRule { chain, rule } => {
                write!(out, "the kernel has one more part of {} ({chain}): {rule}", of(rule))
            }
            Self::Reordered(chain) => {
                write!(out, "the kernel has rules of `{chain}` in another order")
            }
            Self::Reopened => out.write_str(
                "the kernel does not lead all connections to the listeners whose programs decide: those \
                 from where old ones came",
            ),
            Self::Record => out.write_str(
                "the kernel remembers others of those who come than the policy asks, or for another time",
            ),
            Self::Logging => out.write_str(
                "the kernel reports other decisions than the policy asks, or others at most",
            ),
            Self::Posture => out.write_str(
                "the kernel says that another posture is in force than the policy was worked out for",
            ),
            Self::Moved => out.write_str(
                "the kernel has other networks as those that this host is on: its addresses have changed \
                 since the rules were loaded",
            ),
        }
    }
}

/// Compares a plan with a program whose rules are known to be those that the plan is lowered to; a program that says
/// the same besides gives nothing.
#[must_use]
pub fn compare_besides(plan: &HostPlan, found: &RuleProgram) -> Vec<Drift> {
    compare_said((plan.record, plan.logging.of_anything(), plan.taken.as_ref()), found)
}

/// Compares the program that was meant with the one that was found; equal programs give nothing.
#[must_use]
pub fn compare(meant: &RuleProgram, found: &RuleProgram) -> Vec<Drift> {
    let mut drifts = Vec::new();
    for chain in &meant.chains {
        let name = || chain.name.clone();
        let Some(other) = found.chain(&chain.name) else {
            drifts.push(Drift::MissingChain(name()));
            continue;
        };
        if (chain.base, chain.direction) != (other.base, other.direction) {
            drifts.push(Drift::ChangedChain(name()));
        }
        if chain.rules == other.rules {
            continue;
        }
        let missing = without(&chain.rules, &other.rules);
        let extra = without(&other.rules, &chain.rules);
        if without(&chain.rules, &missing) != without(&other.rules, &extra) {
            drifts.push(Drift::Reordered(name()));
        }
        drifts.extend(missing.into_iter().map(|rule| Drift::MissingRule { chain: name(), rule }));
        drifts.extend(extra.into_iter().map(|rule| Drift::ExtraRule { chain: name(), rule }));
    }
    for chain in &found.chains {
        if meant.chain(&chain.name).is_none() {
            drifts.push(Drift::ExtraChain(chain.name.clone()));
        }
    }
    if !meant.reopened.difference(&found.reopened).is_empty() {
        drifts.push(Drift::Reopened);
    }
    if meant.on_link != found.on_link {
        drifts.push(Drift::Moved);
    }
    drifts.extend(compare_said((meant.record, meant.logging, meant.taken.as_ref()), found));
    drifts
}

/// Compares what is said besides rules with what was found.
fn compare_said(
    (record, logging, taken): (Option<Record>, Option<Logging>, Option<&Taken>),
    found: &RuleProgram,
) -> Vec<Drift> {
    let mut drifts = Vec::new();
    if record != found.record {
        drifts.push(Drift::Record);
    }
    if logging.and_then(Logging::standing) != found.logging.and_then(Logging::standing) {
        drifts.push(Drift::Logging);
    }
    let same = match (taken, &found.taken) {
        (Some(meant), Some(found)) => meant.is_as(found),
        (None, None) => true,
        _ => false,
    };
    if !same {
        drifts.push(Drift::Posture);
    }
    drifts
}

/// The rules of `list` that are left when each rule of `other` has cancelled one equal to it.
fn without(list: &[ProgramRule], other: &[ProgramRule]) -> Vec<ProgramRule> {
    let mut rest: HashMap<&ProgramRule, usize> = HashMap::with_capacity(other.len());
    for rule in other {
        *rest.entry(rule).or_default() += 1;
    }
    let mut left = Vec::new();
    for rule in list {
        match rest.get_mut(rule).filter(|count| **count > 0) {
            Some(count) => *count -= 1,
            None => left.push(rule.clone()),
        }
    }
    left
}
