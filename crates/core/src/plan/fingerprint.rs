//! Numbers by which it is known whether a rule still means what it meant.

use super::model::{Chain, Decision, HostPlan};
use crate::fnv::Fnv;
use std::hash::{Hash, Hasher};

impl Decision {
    /// A number for what it takes and what it does with that: one that takes something else, or does something
    /// else, has another. How it is written does not matter.
    #[must_use]
    pub fn fingerprint(&self) -> u64 {
        let mut hasher = Fnv::default();
        self.act.hash(&mut hasher);
        self.conditions.hash(&mut hasher);
        hasher.finish()
    }
}

impl HostPlan {
    /// Feeds a hasher all that the rules depend on which the plan is lowered to: what is fed alike is lowered alike by
    /// the same program. How the policy is written, and why, does not matter.
    pub fn hash_meaning(&self, hasher: &mut impl Hasher) {
        let Self {
            host,
            addresses,
            on_link,
            broadcasts,
            moving,
            interfaces,
            program_marks,
            record,
            logging,
            taken,
            chains,
        } = self;
        (host, addresses, on_link, broadcasts, moving, interfaces).hash(hasher);
        (program_marks, record, logging, taken).hash(hasher);
        for Chain { direction, decisions } in chains {
            (direction, decisions.len()).hash(hasher);
            for decision in decisions {
                let Decision { id, conditions, act, log, idle, origin: _, why: _, written: _ } =
                    decision;
                (id, conditions, act, log, idle).hash(hasher);
            }
        }
    }
}
