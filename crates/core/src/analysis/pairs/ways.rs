//! By which hosts packets go from one host to another.

use crate::plan::HostPlan;
use crate::policy::{Fleet, Route};
use crate::space::{AddressSet, Piece, without};

/// Packets from one host to another that go the same way.
#[derive(Clone, Debug)]
pub struct Way<'p> {
    /// From which addresses of the sender to which of the receiver.
    pub ends: Piece,
    /// The hosts that pass them on, in order.
    pub through: Vec<&'p str>,
    /// The route that says so; `None`: none does, they go directly.
    pub route: Option<&'p Route>,
}

/// The host's own addresses.
#[must_use]
pub fn own(plan: &HostPlan) -> AddressSet {
    plan.addresses.iter().map(|&it| AddressSet::single(it)).collect()
}

/// All ways from one host's addresses to another's, disjoint; none if no packet can go between them.
#[must_use]
pub fn ways<'p>(
    fleet: &'p Fleet,
    (from, sends): (&str, &AddressSet),
    (to, receives): (&str, &AddressSet),
) -> Vec<Way<'p>> {
    let mut found = Vec::new();
    let mut left = vec![towards(sends, receives)];
    left.retain(|it| !it.is_empty());
    for route in &fleet.routes {
        let [first, second] = &route.between;
        for (one, other, turned) in [(first, second, false), (second, first, true)] {
            let meant = towards(&sends.intersection(one), &receives.intersection(other));
            if meant.is_empty() {
                continue;
            }
            let here = left.iter().map(|it| it.intersection(&meant)).filter(|it| !it.is_empty());
            let through = between_both(route, turned, (from, to));
            found.extend(here.map(|ends| Way {
                ends,
                through: through.clone(),
                route: Some(route),
            }));
            left = without(left, &meant);
        }
    }
    left.retain(|it| !it.is_empty());
    found.extend(left.into_iter().map(|ends| Way { ends, through: Vec::new(), route: None }));
    found
}

fn towards(source: &AddressSet, destination: &AddressSet) -> Piece {
    Piece { source: source.clone(), destination: destination.clone(), ..Piece::full() }
}

/// Those who pass packets on: whoever sends them from there, or receives them there, does not.
fn between_both<'p>(route: &'p Route, turned: bool, (from, to): (&str, &str)) -> Vec<&'p str> {
    let mut through: Vec<&str> = route.through.iter().map(String::as_str).collect();
    if turned {
        through.reverse();
    }
    if let Some(at) = through.iter().rposition(|it| *it == from) {
        through.drain(..=at);
    }
    if let Some(at) = through.iter().position(|it| *it == to) {
        through.truncate(at);
    }
    through
}
