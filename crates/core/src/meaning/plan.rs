//! The meaning of a plan.

use super::atlas::{Atlas, Meaning};
use super::diagram::{Diagram, Diagrams};
use super::fate::{Fate, Fates, NOTHING};
use super::fields::{
    ASKED, DESTINATION_IS, FAMILY, ICMP_TYPE, IN_INTERFACE, OUT_INTERFACE, PORT, PROGRAM, PROTOCOL,
    SOURCE_IS, SOURCE_PORT, STATE, USER, address_ways, destination, icmp, relation_ways, source,
    state_ways, ways,
};
use super::firsts::Firsts;
use super::table::Table;
use crate::hands::Hands;
use crate::plan::{Act, Chain, Condition, Decision, HostPlan};
use crate::policy::Verdict;
use crate::space::{Family, RangeSet};
use std::mem::swap;

impl Atlas {
    /// The meaning of a plan.
    pub fn plan(&mut self, plan: &HostPlan) -> Meaning {
        Meaning { roots: [0, 1, 2].map(|at: usize| self.plan_chain(&plan.chains[at])) }
    }

    /// The meanings of two plans.
    pub fn plans(&mut self, hands: &impl Hands, plans: [&HostPlan; 2]) -> [Meaning; 2] {
        // Both know names by the same numbers then.
        plans.iter().for_each(|it| self.know_names(it));
        let mut other = Self {
            diagrams: Diagrams::within(self.diagrams.most()),
            fates: Fates::default(),
            words: self.words.clone(),
        };
        let [first, second] = plans;
        let (first, second) = hands.both(|| self.plan(first), || other.plan(second));
        [first, self.take(&other, second)]
    }

    /// Knows the names in a plan, in the order in which they are met.
    fn know_names(&mut self, plan: &HostPlan) {
        let decisions = plan.chains.iter().flat_map(|it| &it.decisions);
        for condition in
            decisions.filter(|it| it.idle.is_none()).flat_map(|decision| &decision.conditions)
        {
            self.words.users.ways(&condition.users, NOTHING);
            self.words.programs.ways(&condition.programs, NOTHING);
            self.words.interface_ways(&condition.out_interface, NOTHING);
            self.words.interface_ways(&condition.in_interface, NOTHING);
        }
    }

    /// A meaning of another atlas that knows the same names by the same numbers.
    fn take(&mut self, other: &Self, meaning: Meaning) -> Meaning {
        let leaves = other.fates.all().map(|it| self.fates.leaf(it.clone())).collect::<Vec<_>>();
        if other.is_exhausted() {
            self.diagrams.exhaust();
        }
        let mut known = Table::default();
        let roots = meaning.roots.map(|root| {
            self.diagrams.taken_from(&other.diagrams, root, &mut known, &mut |number| {
                Fates::place(number).and_then(|at| leaves.get(at)).copied().unwrap_or(NOTHING)
            })
        });
        Meaning { roots }
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
