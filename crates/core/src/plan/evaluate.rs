//! What happens to one packet, and which decisions led there.

use super::condition::Miss;
use super::model::{Act, Decision, HostPlan, RuleId};
use crate::policy::{Time, Verdict};
use crate::space::Packet;

/// The fate of a packet.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Decided {
    /// What happens to the packet.
    pub verdict: Verdict,
    /// Whether that holds only up to a rate.
    pub limited: bool,
    /// Which decision says so.
    pub by: RuleId,
}

/// One decision on the way: passed over, or the one that took the packet.
#[derive(Clone, Debug)]
pub struct Step<'p> {
    /// The decision that took the packet.
    pub decision: &'p Decision,
    /// Why it did not take the packet; `None` for the one that did, and for one that takes nothing.
    pub miss: Option<Miss>,
}

impl Decision {
    /// Why the decision does not take the packet: of its conditions, the one that comes closest
    /// speaks. `None` if it takes it.
    #[must_use]
    pub fn miss(&self, packet: &Packet) -> Option<Miss> {
        let mut closest = None;
        for condition in &self.conditions {
            closest = closest.max(Some(condition.miss(packet)?));
        }
        closest
    }

    /// Whether it is about packets of certain programs or users only.
    #[must_use]
    pub fn names_owners(&self) -> bool {
        self.conditions.iter().any(super::condition::Condition::names_owners)
    }

    /// When it ends by itself.
    #[must_use]
    pub fn until(&self) -> Option<Time> {
        self.conditions.first().and_then(|condition| condition.until)
    }

    /// Whether it takes the packet, if none above it does.
    #[must_use]
    pub fn takes(&self, packet: &Packet) -> bool {
        self.idle.is_none()
            && self.conditions.iter().any(|condition| condition.miss(packet).is_none())
    }

    /// The fate of the packets that this decision takes.
    #[must_use]
    pub fn outcome(&self) -> Decided {
        Decided {
            verdict: self.act.verdict(),
            limited: matches!(self.act, Act::AllowWithin(_)),
            by: self.id.clone(),
        }
    }
}

impl HostPlan {
    /// The decision that takes the packet: the first in its chain that matches.
    ///
    /// # Panics
    /// Never for a plan made by [`super::resolve`]: the default takes everything.
    #[must_use]
    pub fn decision(&self, packet: &Packet) -> &Decision {
        let decisions = &self.chain(packet.direction).decisions;
        decisions
            .iter()
            .find(|decision| decision.takes(packet))
            .unwrap_or_else(|| unreachable!("the default takes every packet"))
    }

    /// The fate of the packet.
    #[must_use]
    pub fn evaluate(&self, packet: &Packet) -> Decided {
        self.decision(packet).outcome()
    }

    /// Every decision that was looked at for the packet, in order; the last one took it.
    #[must_use]
    pub fn explain(&self, packet: &Packet) -> Vec<Step<'_>> {
        let mut path = Vec::new();
        for decision in &self.chain(packet.direction).decisions {
            let taken = decision.takes(packet);
            let miss = if decision.idle.is_some() { None } else { decision.miss(packet) };
            path.push(Step { decision, miss });
            if taken {
                break;
            }
        }
        path
    }
}
