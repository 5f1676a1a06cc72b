//! Kernel rules back to program rules.
//!
//! Expressions are followed register by register. What is not understood becomes an opaque test
//! or action: it never counts as "matches" or "does not match".

mod comparisons;
mod field;
mod found;
mod reader;

pub use found::{Found, Sets, found};

use super::marks::Marks;
use super::names::text_of;
use super::tally::Count;
use reader::{Keeps, RuleReader, not_ours};
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Rate;
use tipstaff_core::program::{Action, ProgramRule};
use tipstaff_wire::nf_tables::{Limit, Rule};

/// A rule, and what goes with it.
pub struct Read {
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
}

/// Reads one rule; if `counted`, also what it has counted.
pub fn rule(rule: &Rule, sets: &Sets, counted: bool) -> Read {
    let id = match text_of(&rule.user_data) {
        Some("") => None,
        Some(name) => Some(RuleId::parse(name)),
        None => Some(not_ours()),
    };
    let mut reader = RuleReader::new(id, sets, counted);
    for expression in &rule.expressions {
        reader.step(expression);
    }
    let action = match (reader.action, reader.limit) {
        (Some(Action::Allow), Some((limit, Keeps::Crowd(sender)))) => {
            rate(&limit, true).map_or_else(opaque_limit, |rate| Action::AllowCrowded(rate, sender))
        }
        // Whom a set does not hold is told only for that.
        (_, Some((_, Keeps::Crowd(_)))) | (_, None)
            if reader.crowded.is_some() || reader.not_in.is_some() =>
        {
            Action::Opaque("lookup".into())
        }
        (Some(action), None) => action,
        (Some(Action::Allow), Some((limit, keeps))) if reader.not_in.is_none() => {
            let each = if let Keeps::Each(sender) = keeps { Some(sender) } else { None };
            let action = |rate| match each {
                Some(sender) => Action::AllowEach(rate, sender),
                None => Action::AllowWithin(rate),
            };
            rate(&limit, each.is_some()).map_or_else(opaque_limit, action)
        }
        (Some(Action::Log(None)), Some((limit, Keeps::All))) => {
            rate(&limit, false).map_or_else(opaque_limit, |cap| Action::Log(Some(cap)))
        }
        (Some(_), Some(_)) => opaque_limit(),
        (None, _) => Action::Opaque("no verdict".into()),
    };
    Read {
        rule: ProgramRule { id: reader.id, tests: reader.tests, action },
        counts: reader.counts,
        crowded: reader.crowded,
        marks: reader.marks,
        keeps_in: reader.keeps_in,
        not_in: reader.not_in,
    }
}

fn opaque_limit() -> Action {
    Action::Opaque("limit".into())
}

fn rate(limit: &Limit, per_source: bool) -> Option<Rate> {
    let (count, seconds) = (u32::try_from(limit.rate).ok()?, u32::try_from(limit.unit).ok()?);
    let plain = limit.kind == 0 && limit.flags == 0;
    plain.then_some(Rate { count, seconds, burst: limit.burst, per_source })
}
