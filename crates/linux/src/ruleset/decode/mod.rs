//! Kernel rules back to program rules.
//!
//! Expressions are followed register by register. What is not understood becomes an opaque test
//! or action: it never counts as "matches" or "does not match".

mod comparisons;
mod field;
mod found;
mod limiters;
mod programs;
mod reader;

pub(super) use found::{Found, Sets, found};

use super::marks::Marks;
use super::names::{direction_of, text_of};
use super::record::Leads;
use super::tally::Count;
use reader::{RuleReader, not_ours};
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::ProgramRule;
use tipstaff_wire::nf_tables::Rule;

/// A rule, and what goes with it.
pub(super) struct Read {
    pub rule: ProgramRule,
    /// What it has counted, for each decision.
    pub counts: Vec<(RuleId, Count)>,
    /// What it has counted of senders for which there was no room.
    pub crowded: Option<(RuleId, Count)>,
    /// The programs that it names.
    pub marks: Marks,
    /// The set in which it keeps a limiter for each key, whether it is one of ours or not.
    pub keeps_in: Option<String>,
    /// The set that does not hold the senders that it is for.
    pub not_in: Option<String>,
    /// The chains of the record that it leads to.
    pub leads: Vec<(String, Leads)>,
    /// Whether it decides something without its being remembered: whether it turns away so, and admits.
    pub forgets: (bool, bool),
}

/// Reads one rule; if `counted`, also what it has counted.
pub(super) fn rule(rule: &Rule, sets: &Sets, counted: bool) -> Read {
    let id = match text_of(&rule.user_data) {
        Some("") => None,
        Some(name) => Some(RuleId::parse(name)),
        None => Some(not_ours()),
    };
    let mut reader = RuleReader::new(id, direction_of(&rule.chain), sets, counted);
    // What leads on to be remembered comes to a verdict, and is read as that.
    if let Some((steps, verdict, chain, leads)) = Leads::take(&rule.expressions) {
        steps.iter().chain([&verdict]).for_each(|it| reader.step(it));
        reader.leads.push((chain, leads));
    } else {
        rule.expressions.iter().for_each(|it| reader.step(it));
        reader.forgets_verdict();
    }
    let action = reader.limiter.action(reader.action, reader.crowded.is_some());
    Read {
        rule: ProgramRule { id: reader.id, tests: reader.tests, action },
        counts: reader.counts,
        crowded: reader.crowded,
        marks: reader.marks,
        keeps_in: reader.limiter.keeps_in,
        not_in: reader.limiter.not_in,
        leads: reader.leads,
        forgets: reader.forgets,
    }
}
