//! Whether what must hold between hosts does, and who says so.

use super::between_hosts::Hosts;
use super::compare::Side;
use super::reach::{Asking, FateOnWay, reach_with};
use crate::vocabulary as say;
use crate::{Failure, Outcome};
use serde::Serialize;
use tipstaff_core::analysis::{FailingPair, Judged, judge};
use tipstaff_core::policy::FleetExpectation;

/// So many pairs of hosts are told of for each expectation, unless all are.
const LISTED: usize = 6;

/// What is expected between the hosts of a policy.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Expected {
    /// The expectations, in the order written.
    pub expectations: Vec<ExpectedBetween>,
}

/// A statement that must hold between hosts.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct ExpectedBetween {
    /// What all packets must meet on the way.
    pub verdict: say::Verdict,
    /// The traffic, as written.
    pub traffic: Vec<String>,
    /// Who sends, as written; none: all hosts.
    pub from: Vec<String>,
    /// Who receives, likewise.
    pub to: Vec<String>,
    /// Only between addresses of theirs in these places, as written; none: all.
    pub within: Vec<String>,
    /// Why it must hold.
    pub why: Option<String>,
    /// Where it is written.
    pub origin: String,
    /// Whether it holds: `yes`, `no`, or `unknown`: nobody knows of some hosts, and it holds for all others.
    pub holds: say::Holds,
    /// For how many pairs of hosts it was proven, for every packet.
    pub proven: usize,
    /// For how many it does not hold.
    pub failing: usize,
    /// The first of the pairs, those for which it does not hold ahead of others.
    pub pairs: Vec<PairWords>,
    /// Hosts that are meant and of which nothing is known, since their addresses are not listed.
    pub unknown: Vec<String>,
}

/// A pair of hosts.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct PairWords {
    /// Who sends.
    pub from: String,
    /// Who receives.
    pub to: String,
    /// Whether it holds for them.
    pub holds: bool,
    /// What becomes of the packets, and which decision of each host says so; if it does not hold, of those that fare
    /// otherwise. None: no packet can go from the one to the other.
    pub fates: Vec<FateOnWay>,
}

impl Expected {
    /// Whether all hold, as an exit code says it.
    pub fn outcome(&self) -> Outcome {
        let holds = |it: &ExpectedBetween| it.holds == say::Holds::Yes;
        if self.expectations.iter().all(holds) { Outcome::Fine } else { Outcome::Found }
    }

    /// What does not hold, or is not known to, as sentences.
    pub(super) fn doubts(&self) -> Vec<String> {
        let mut doubts = Vec::new();
        for it in &self.expectations {
            let what = format!("{}: {} of {}", it.origin, it.verdict, it.traffic.join(", "));
            match it.holds {
                say::Holds::Yes => {}
                say::Holds::No => {
                    let pair = it.pairs.iter().find(|it| !it.holds);
                    let pair = pair.map(|it| format!(", as from {} to {}", it.from, it.to));
                    let pair = pair.unwrap_or_default();
                    let pairs = if it.failing == 1 { "pair" } else { "pairs" };
                    doubts.push(format!(
                        "{what} does not hold for {} {pairs} of hosts{pair}",
                        it.failing
                    ));
                }
                say::Holds::Unknown => doubts.push(format!(
                    "{what} is not proven: the addresses of {} are not listed",
                    it.unknown.join(", ")
                )),
            }
        }
        doubts
    }
}

/// Judges what must hold between the hosts of a policy; the first pairs are told of, or `all`.
///
/// # Errors
/// [`Failure`] if a host cannot be worked out, or what it says has too many parts.
pub fn expectations(side: &Side, all: bool) -> Result<Expected, Failure> {
    let mut expectations = Vec::new();
    if !side.policy.fleet.expectations.is_empty() {
        let hosts = Hosts::of(side)?;
        for expectation in &side.policy.fleet.expectations {
            expectations.push(judged(side, &hosts, expectation, all)?);
        }
    }
    Ok(Expected { expectations })
}

fn judged(
    side: &Side,
    hosts: &Hosts<'_>,
    expectation: &FleetExpectation,
    all: bool,
) -> Result<ExpectedBetween, Failure> {
    let asked = hosts.asked(&expectation.traffic, expectation.within.as_ref())?;
    let Judged { proven, failing, unknown } =
        judge(expectation, |it| asked.word(it), |from, to| asked.ways(from, to));
    let holds = match (failing.is_empty(), unknown.is_empty()) {
        (false, _) => say::Holds::No,
        (true, false) => say::Holds::Unknown,
        (true, true) => say::Holds::Yes,
    };
    let most = if all { usize::MAX } else { LISTED };
    let fails = failing.iter().map(|FailingPair { from, to, .. }| (from, to, false));
    let proved = proven.iter().map(|(from, to)| (from, to, true));
    let mut pairs = Vec::new();
    for (from, to, holds) in fails.chain(proved).take(most) {
        let asking = Asking { within: expectation.within.as_ref(), through: None };
        let told = reach_with(side, (from, to), &expectation.traffic, asking)?;
        let mut fates = told.fates;
        if !holds {
            let wanted: say::Verdict = expectation.verdict.into();
            fates.retain(|it| it.verdict != wanted);
        }
        pairs.push(PairWords { from: from.clone(), to: to.clone(), holds, fates });
    }
    Ok(ExpectedBetween {
        verdict: expectation.verdict.into(),
        traffic: expectation.traffic_terms.clone(),
        from: expectation.from.terms.clone(),
        to: expectation.to.terms.clone(),
        within: expectation.within_terms.clone(),
        why: expectation.why.clone(),
        origin: expectation.origin.to_string(),
        holds,
        proven: proven.len(),
        failing: failing.len(),
        pairs,
        unknown,
    })
}
