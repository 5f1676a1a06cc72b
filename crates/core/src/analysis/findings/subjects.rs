//! What is looked at.

use crate::hands::AnyHands;
use crate::plan::{Decision, HostPlan, Kind};
use crate::policy::{Host, Policy, Rule, Time};
use crate::space::{Direction, Packet};
use std::collections::HashMap;

/// What is looked at.
pub(super) struct Subjects<'p> {
    pub policy: &'p Policy,
    pub host: &'p Host,
    pub plan: &'p HostPlan,
    pub now: Time,
    /// The host's rules by their names.
    pub by_name: HashMap<&'p str, &'p Rule>,
    /// A packet of a direction that witnesses should resemble.
    pub likely: &'p dyn Fn(Direction) -> Packet,
    /// Who looks.
    pub hands: &'p dyn AnyHands,
}

impl<'p> Subjects<'p> {
    /// A policy as the plan's host has it; `None` if it has no such host.
    pub(super) fn of(
        policy: &'p Policy,
        plan: &'p HostPlan,
        now: Time,
        likely: &'p dyn Fn(Direction) -> Packet,
        hands: &'p dyn AnyHands,
    ) -> Option<Self> {
        let host = policy.host(&plan.host)?;
        let by_name = host.rules.iter().map(|rule| (rule.name.as_str(), rule)).collect();
        Some(Self { policy, host, plan, now, by_name, likely, hands })
    }

    /// The written rules of one direction that are in force, with their places in the chain.
    pub(super) fn rules(
        &self,
        direction: Direction,
    ) -> impl Iterator<Item = (usize, &'p Decision)> {
        let decisions = self.plan.chain(direction).decisions.iter().enumerate();
        decisions.filter(|(_, it)| it.id.kind == Kind::Rule && it.idle.is_none())
    }
}
