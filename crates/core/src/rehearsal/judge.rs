//! What the rules say of many packets between the same two ends.

use super::course::telling;
use crate::plan::{Decision, HostPlan};
use crate::space::{Packet, RangeSet};

/// The decisions that can take packets between two given ends: asking about each of 65,536 ports
/// need not pass over rules about somebody else each time.
#[derive(Clone, Debug)]
pub struct Judge<'p> {
    decisions: Vec<&'p Decision>,
}

impl<'p> Judge<'p> {
    /// For packets that differ from `packet` only in what they carry, and in the connection state.
    #[must_use]
    pub fn between(plan: &'p HostPlan, packet: &Packet) -> Self {
        let concerned = |decision: &&Decision| {
            decision.idle.is_none()
                && decision.conditions.iter().any(|condition| {
                    condition.in_interface.holds(packet.in_interface.as_deref())
                        && condition.out_interface.holds(packet.out_interface.as_deref())
                        && condition.source.contains(packet.source)
                        && condition.destination.contains(packet.destination)
                        && condition.source_is.contains(packet.source_is)
                        && condition.destination_is.contains(packet.destination_is)
                })
        };
        let decisions = &plan.chain(packet.direction).decisions;
        Self { decisions: decisions.iter().filter(concerned).collect() }
    }

    /// Of each run of TCP or UDP ports that these decisions do not tell apart, the first and the last.
    #[must_use]
    pub fn telling(&self) -> RangeSet<u16> {
        telling(self.decisions.iter().flat_map(|it| &it.conditions).map(|it| &it.traffic))
    }

    /// The decision that takes the packet.
    ///
    /// # Panics
    /// Never for a plan made by [`crate::plan::resolve`]: the default takes everything.
    #[must_use]
    pub fn decision(&self, packet: &Packet) -> &'p Decision {
        self.decisions
            .iter()
            .find(|decision| decision.takes(packet))
            .unwrap_or_else(|| unreachable!("the default takes every packet"))
    }
}
