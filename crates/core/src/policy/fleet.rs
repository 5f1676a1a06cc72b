//! What a policy says of all its hosts together.

use super::{Origin, Verdict};
use crate::space::{AddressSet, TrafficSet};

/// What a policy says of all its hosts together.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Fleet {
    /// Who stands between whom, in the order written: the first that fits counts.
    pub routes: Vec<Route>,
    /// What must hold between hosts, in the order written.
    pub expectations: Vec<FleetExpectation>,
    /// What hosts try before they keep what they took, in the order written.
    pub probes: Vec<FleetProbe>,
}

/// Which hosts stand between two places; of packets either way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Route {
    /// The two places.
    pub between: [AddressSet; 2],
    /// The same, as they are written.
    pub between_terms: Vec<String>,
    /// The hosts that pass packets on, from the first place to the second; none: they go directly.
    pub through: Vec<String>,
    /// Why it is so.
    pub why: Option<String>,
    /// Where it is written.
    pub origin: Origin,
}

/// Hosts that are named, by their own names or by labels.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Named {
    /// The names of their sections, in the order of the policy.
    pub hosts: Vec<String>,
    /// As it is written; empty when left out.
    pub terms: Vec<String>,
}

/// What must hold between hosts, whatever their rules are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FleetExpectation {
    /// The traffic that it is about.
    pub traffic: TrafficSet,
    /// The same, as it is written.
    pub traffic_terms: Vec<String>,
    /// Who sends.
    pub from: Named,
    /// Who receives.
    pub to: Named,
    /// Of both, only addresses in here; all of them when left out.
    pub within: Option<AddressSet>,
    /// The same, as it is written; empty when left out.
    pub within_terms: Vec<String>,
    /// What all packets must meet on the way.
    pub verdict: Verdict,
    /// Why it must hold.
    pub why: Option<String>,
    /// Where it is written.
    pub origin: Origin,
}

/// What hosts try before they keep what they took.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FleetProbe {
    /// The ports, over TCP.
    pub traffic: TrafficSet,
    /// The same, as it is written.
    pub traffic_terms: Vec<String>,
    /// Who tries.
    pub from: Named,
    /// Who has to answer.
    pub to: Named,
    /// Of both, only addresses in here; all of them when left out.
    pub within: Option<AddressSet>,
    /// Why.
    pub why: Option<String>,
    /// Where it is written.
    pub origin: Origin,
}

impl Fleet {
    /// Adds what another file says.
    pub(super) fn add(&mut self, other: Self) {
        self.routes.extend(other.routes);
        self.expectations.extend(other.expectations);
        self.probes.extend(other.probes);
    }
}
