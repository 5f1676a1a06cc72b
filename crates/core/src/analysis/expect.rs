//! Expectations: statements that must hold for every packet of a region.

use super::budget::Budget;
use super::lines::{Line, Lines, find};
use super::question::{STEPS, Share, ordinary, shares};
use crate::plan::{Decision, HostPlan, Kind, published};
use crate::policy::{Ends, Expectation};
use crate::space::{AddressSet, NameSet, Piece, RelationSet, loopback};

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
pub(super) fn region(plan: &HostPlan, expectation: &Expectation) -> Vec<Piece> {
    let mut piece = ordinary(plan, expectation.direction);
    if expectation.every_packet {
        // Also those with addresses of others, which a program can make up, and those for many.
        let (ins, outs) = (piece.in_interfaces, piece.out_interfaces);
        piece = Piece { in_interfaces: ins, out_interfaces: outs, ..Piece::full() };
    }
    let named = |names: &[String], usual: &NameSet| match names {
        [] => usual.clone(),
        [one] if one.starts_with('!') => {
            usual.intersection(&NameSet::all_but(one.get(1..).unwrap_or_default()))
        }
        names => NameSet::only(names.iter().map(String::as_str)),
    };
    piece.in_interfaces = named(&expectation.ingress, &piece.in_interfaces);
    piece.out_interfaces = named(&expectation.egress, &piece.out_interfaces);
    let named = |terms: &[String], ends: &Ends, of: Part| -> Vec<Part> {
        let says = !terms.is_empty() && !ends.is_full();
        let meant = |it: &AddressSet| match expectation.every_packet {
            true => it.clone(),
            false => off_loopback(it),
        };
        let part = |it: &Part| (it.0, meant(&it.1));
        if says { ends.parts().iter().map(part).collect() } else { vec![of] }
    };
    let from = (piece.source_is, piece.source.clone());
    let to = (piece.destination_is, piece.destination.clone());
    let from = named(&expectation.from_terms, &expectation.from, from);
    let to = named(&expectation.to_terms, &expectation.to, to);
    let carried = published(&expectation.traffic, expectation.published.as_ref());
    let pairs = from.iter().flat_map(|from| to.iter().map(move |to| (from, to)));
    let each = pairs.flat_map(|pair| carried.iter().map(move |carried| (pair, carried)));
    let narrowed = each.map(|((from, to), (traffic, published))| Piece {
        traffic: traffic.clone(),
        published: published.clone(),
        source_is: from.0,
        source: from.1.clone(),
        destination_is: to.0,
        destination: to.1.clone(),
        ..piece.clone()
    });
    narrowed.collect()
}

/// What an end may be to the host, and its addresses.
type Part = (RelationSet, AddressSet);

/// Addresses without those of the loopback interface: who names others by what they are not does not mean
/// these. Who names nothing else does.
fn off_loopback(addresses: &AddressSet) -> AddressSet {
    let rest = addresses.difference(&loopback());
    if rest.is_empty() { addresses.clone() } else { rest }
}

/// Whether what a decision does to packets of an expectation is not as expected.
fn is_against(expectation: &Expectation, decision: &Decision) -> bool {
    let aside =
        decision.id.kind == Kind::Baseline && expectation.besides.contains(&decision.id.name);
    decision.act.verdict() != expectation.verdict && !aside
}

/// Whether some packet of the expectation meets another verdict.
fn otherwise(plan: &HostPlan, expectation: &Expectation) -> bool {
    let regions = region(plan, expectation);
    let lines = Lines::of(plan.chain(expectation.direction));
    let against = |line: &&Line<'_>| is_against(expectation, line.of);
    let met = regions.iter().flat_map(|region| lines.meeting(region).map(move |it| (region, it)));
    met.filter(|(_, line)| against(line)).any(|(region, line)| {
        let part = line.piece.intersection(region);
        let above: Vec<&Line<'_>> =
            lines.meeting(&part).take_while(|it| it.decision < line.decision).collect();
        let found = find(&part, &above, None, expectation.direction, &mut Budget::new(STEPS));
        // What cannot be found out in reasonable time does not count as proven.
        !matches!(found, Ok(None))
    })
}

/// The expectations that do not hold. What a limited rule allows counts as allowed.
#[must_use]
pub fn failing<'p>(
    plan: &'p HostPlan,
    expectations: impl IntoIterator<Item = &'p Expectation>,
) -> Vec<Failing<'p>> {
    let mut list = Vec::new();
    for expectation in expectations {
        match shares(plan, expectation.direction, region(plan, expectation)) {
            // Too much to tell, but whether there is anything can still be found out.
            None if otherwise(plan, expectation) => list.push(Failing { expectation, by: None }),
            None => {}
            Some(shares) => {
                let by: Vec<Share<'p>> = shares
                    .into_iter()
                    .filter(|share| is_against(expectation, share.decision))
                    .collect();
                if !by.is_empty() {
                    list.push(Failing { expectation, by: Some(by) });
                }
            }
        }
    }
    list
}
