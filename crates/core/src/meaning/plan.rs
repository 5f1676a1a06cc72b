//! The meaning of a plan.

use super::atlas::{Atlas, Meaning};
use super::diagram::Diagram;
use super::fate::{Fate, NOTHING};
use super::fields::{
    ASKED, DESTINATION_IS, FAMILY, ICMP_TYPE, IN_INTERFACE, OUT_INTERFACE, PORT, PROGRAM, PROTOCOL,
    SOURCE_IS, SOURCE_PORT, STATE, USER, address_ways, destination, icmp, relation_ways, source,
    state_ways, ways,
};
use super::firsts::Firsts;
use crate::plan::{Act, Chain, Condition, Decision, HostPlan};
use crate::policy::Verdict;
use crate::space::{Family, RangeSet};
use std::mem::swap;

impl Atlas {
    /// The meaning of a plan.
    pub fn plan(&mut self, plan: &HostPlan) -> Meaning {
        Meaning { roots: [0, 1, 2].map(|at: usize| self.plan_chain(&plan.chains[at])) }
    }

    fn plan_chain(&mut self, chain: &Chain) -> Diagram {
        let mut firsts = Firsts::within(self.diagrams.most());
        let mut lines = Vec::new();
        // The lines' own diagrams are not kept.
        swap(&mut self.diagrams, &mut firsts.diagrams);
        for (place, decision) in (0..).zip(&chain.decisions) {
            if decision.idle.is_some() {
                continue;
            }
            let Some(fate) = self.fates.leaf(fate(decision)).as_leaf() else { continue };
            let leaf = firsts.leaves.of(place, fate, &self.fates);
            lines.extend(decision.conditions.iter().map(|it| self.condition(it, leaf)));
        }
        swap(&mut self.diagrams, &mut firsts.diagrams);
        firsts.first(&lines, &mut self.diagrams, &mut self.fates)
    }

    /// `then` for packets that meet the condition, nothing for others.
    pub(super) fn condition(&mut self, condition: &Condition, then: Diagram) -> Diagram {
        let then = self.asked(&condition.published, then);
        let then = self.users(&condition.users, then);
        let then = self.programs(&condition.programs, then);
        let mut inner = then;
        for (field, set) in
            [(DESTINATION_IS, condition.destination_is), (SOURCE_IS, condition.source_is)]
        {
            if !set.is_full() {
                inner = field.fork(&mut self.diagrams, &relation_ways(set, inner), NOTHING);
            }
        }
        for (field, test) in
            [(OUT_INTERFACE, &condition.out_interface), (IN_INTERFACE, &condition.in_interface)]
        {
            if let Some(ways) = self.words.interface_ways(test, inner) {
                inner = field.fork(&mut self.diagrams, &ways, NOTHING);
            }
        }
        let [v4, v6] = Family::BOTH.map(|family| self.of_family(condition, family, inner));
        let families = FAMILY.either(&mut self.diagrams, v4, v6);
        match condition.states {
            None => families,
            Some(states) => STATE.fork(&mut self.diagrams, &state_ways(states, families), NOTHING),
        }
    }

    /// `then` for packets of some programs; of all, if none is named.
    pub(super) fn programs(&mut self, programs: &[String], then: Diagram) -> Diagram {
        match self.words.programs.ways(programs, then) {
            ways if ways.is_empty() => then,
            ways => PROGRAM.fork(&mut self.diagrams, &ways, NOTHING),
        }
    }

    /// `then` for packets of some users; of all, if none is named.
    pub(super) fn users(&mut self, users: &[String], then: Diagram) -> Diagram {
        match self.words.users.ways(users, then) {
            ways if ways.is_empty() => then,
            ways => USER.fork(&mut self.diagrams, &ways, NOTHING),
        }
    }

    /// `then` for packets that were led here from some ports; 0 stands for those that were not.
    pub(super) fn asked(&mut self, ports: &RangeSet<u16>, then: Diagram) -> Diagram {
        ASKED.fork(&mut self.diagrams, &ways(ports, then), NOTHING)
    }

    fn of_family(&mut self, condition: &Condition, family: Family, then: Diagram) -> Diagram {
        let traffic = self.traffic(condition, family, then);
        let to = address_ways(&condition.destination, family, traffic);
        let to = destination(family).fork(&mut self.diagrams, &to, NOTHING);
        let from = address_ways(&condition.source, family, to);
        source(family).fork(&mut self.diagrams, &from, NOTHING)
    }

    fn traffic(&mut self, condition: &Condition, family: Family, then: Diagram) -> Diagram {
        let traffic = &condition.traffic;
        let from = ways(&condition.source_ports, then);
        let from = SOURCE_PORT.fork(&mut self.diagrams, &from, NOTHING);
        let mut ports = |set| PORT.fork(&mut self.diagrams, &ways(set, from), NOTHING);
        let mut spoken_for: Vec<(u8, Diagram)> =
            traffic.ports.iter().map(|(protocol, set)| (protocol.number(), ports(set))).collect();
        let mut others = traffic.others.clone();
        if condition.source_ports.is_full() {
            let types = if family == Family::V4 { &traffic.icmp } else { &traffic.icmpv6 };
            let types = ICMP_TYPE.fork(&mut self.diagrams, &ways(types, then), NOTHING);
            spoken_for.push((icmp(family), types));
        } else {
            others = RangeSet::empty();
            spoken_for.push((icmp(family), NOTHING));
        }
        let numbers = spoken_for.iter().map(|it| (it.0, it.0));
        let others = others.difference(&RangeSet::from_ranges(numbers));
        let mut protocols = ways(&others, then);
        protocols.extend(spoken_for.into_iter().map(|it| (it.0.into(), it.0.into(), it.1)));
        protocols.sort_unstable();
        PROTOCOL.fork(&mut self.diagrams, &protocols, NOTHING)
    }
}

fn fate(decision: &Decision) -> Fate {
    let by = decision.id.clone();
    match decision.act {
        Act::Decide(verdict) => Fate::Decided { by, verdict },
        Act::AllowWithin(rate) => {
            let beyond = Fate::Decided { by: by.clone(), verdict: Verdict::Deny };
            Fate::Within { by, rate, beyond: Box::new(beyond) }
        }
    }
}
