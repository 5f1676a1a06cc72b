//! Expectations: statements that must hold for every packet of a region.

use super::budget::Budget;
use super::lines::{Line, Lines, find};
use super::question::{STEPS, Share, loopback, ordinary, shares};
use crate::plan::HostPlan;
use crate::policy::Expectation;
use crate::space::{AddressSet, NameSet, Piece};

/// An expectation that does not hold.
#[derive(Clone, Debug)]
pub struct Failing<'p> {
    /// The expectation that does not hold.
    pub expectation: &'p Expectation,
    /// Who decides otherwise, about which packets; `None` if they are too many to be told.
    pub by: Option<Vec<Share<'p>>>,
}

/// The packets that an expectation is about.
#[must_use]
pub(super) fn region(plan: &HostPlan, expectation: &Expectation) -> Piece {
    let mut piece = ordinary(plan, expectation.direction);
    piece.traffic = expectation.traffic.clone();
    if !expectation.from_terms.is_empty() {
        piece.source = off_loopback(&expectation.from);
    }
    if !expectation.to_terms.is_empty() {
        let to = &expectation.to;
        piece.destination = if to.is_full() { piece.destination } else { off_loopback(to) };
    }
    let only = |names: &[String]| NameSet::only(names.iter().map(String::as_str));
    if !expectation.ingress.is_empty() {
        piece.in_interfaces = only(&expectation.ingress);
    }
    if !expectation.egress.is_empty() {
        piece.out_interfaces = only(&expectation.egress);
    }
    piece
}

/// Addresses without those of the loopback interface: who names others by what they are not does not mean
/// these. Who names nothing else does.
fn off_loopback(addresses: &AddressSet) -> AddressSet {
    let rest = addresses.difference(&loopback());
    if rest.is_empty() { addresses.clone() } else { rest }
}

/// Whether some packet of the expectation meets another verdict.
fn otherwise(plan: &HostPlan, expectation: &Expectation) -> bool {
    let region = region(plan, expectation);
    let lines = Lines::of(plan.chain(expectation.direction));
    let against = |line: &&Line<'_>| line.of.act.verdict() != expectation.verdict;
    lines.meeting(&region).filter(against).any(|line| {
        let part = line.piece.intersection(&region);
        let above: Vec<&Line<'_>> =
            lines.meeting(&part).take_while(|it| it.decision < line.decision).collect();
        let found = find(&part, &above, None, expectation.direction, &mut Budget::new(STEPS));
        // What cannot be found out in reasonable time does not count as proven.
        !matches!(found, Ok(None))
    })
}

/// The expectations that do not hold. What a limited rule allows counts as allowed.
#[must_use]
pub fn failing<'p>(plan: &'p HostPlan, expectations: &'p [Expectation]) -> Vec<Failing<'p>> {
    let mut list = Vec::new();
    for expectation in expectations {
        let region = vec![region(plan, expectation)];
        match shares(plan, expectation.direction, region) {
            // Too much to tell, but whether there is anything can still be found out.
            None if otherwise(plan, expectation) => list.push(Failing { expectation, by: None }),
            None => {}
            Some(shares) => {
                let by: Vec<Share<'p>> = shares
                    .into_iter()
                    .filter(|share| share.decision.act.verdict() != expectation.verdict)
                    .collect();
                if !by.is_empty() {
                    list.push(Failing { expectation, by: Some(by) });
                }
            }
        }
    }
    list
}
