//! Expectations that a change breaks.

use crate::finding::{Finding, words};
use crate::likely_packet;
use tipstaff_core::analysis::{failing, review_expectations};
use tipstaff_core::plan::HostPlan;
use tipstaff_core::policy::{Expectation, Policy, Time, Verdict};
use tipstaff_core::space::Direction;

/// Expectations that held before and do not any more.
pub(super) fn newly_broken(
    before: (&Policy, &HostPlan),
    after: (&Policy, &HostPlan),
    now: Time,
) -> Vec<Finding> {
    let failed: Vec<&Expectation> =
        failing(before.1, stated(before)).into_iter().map(|it| it.expectation).collect();
    let fails_still = |finding: &tipstaff_core::analysis::Finding| {
        let about =
            stated(after).into_iter().find(|it| Some(&it.origin) == finding.origin.as_ref());
        about.is_some_and(|it| failed.iter().any(|old| says_as(old, it)))
    };
    let likely = |direction| likely_packet(direction, after.1);
    let found = review_expectations(after.0, after.1, now, &likely);
    found.into_iter().filter(|it| !fails_still(it)).map(words).collect()
}

fn stated<'p>((policy, plan): (&'p Policy, &HostPlan)) -> Vec<&'p Expectation> {
    policy.host(&plan.host).map_or(Vec::new(), |it| it.expected().collect())
}

/// Whether two expectations say the same, wherever they are written.
fn says_as(one: &Expectation, other: &Expectation) -> bool {
    fn of(it: &Expectation) -> (Direction, Verdict, Option<&str>, [&Vec<String>; 8], bool) {
        let terms = [
            &it.traffic_terms,
            &it.from_terms,
            &it.to_terms,
            &it.ingress,
            &it.egress,
            &it.postures,
            &it.besides,
            &it.published_terms,
        ];
        (it.direction, it.verdict, it.label.as_deref(), terms, it.every_packet)
    }
    of(one) == of(other)
}
