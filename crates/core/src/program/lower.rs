//! A plan to a rule program.

use super::arrange::Arranger;
use super::clauses::clauses;
use super::model::{Action, BaseChain, Chain, ProgramRule, RuleProgram, Test};
use super::room::{self, Room};
use crate::plan::{Act, Condition, Decision, HostPlan, Kind};
use crate::policy::Verdict;
use crate::space::{Direction, Family, RangeSet, TCP, TrafficSet};
use std::collections::BTreeSet;
use std::rc::Rc;

/// Up to so many items are walked one by one: a lookup would not be cheaper.
pub(super) const FEW: usize = 8;

/// Lowers a plan.
///
/// Many rules become lookups where that saves packets time; where it would take more than some times the
/// bytes of the plain form, the list is walked ([`Room`]).
#[must_use]
pub fn lower(plan: &HostPlan) -> RuleProgram {
    let plain = |chain: &crate::plan::Chain| {
        let active = chain.decisions.iter().filter(|it| it.idle.is_none());
        active.flat_map(|it| &it.conditions).map(room::weight).sum::<usize>()
    };
    let all: usize = plan.chains.iter().map(plain).sum();
    lower_with(plan, |chain| Room::share(plain(chain), all))
}

/// A plan to the plainest rule program: every list is walked.
#[cfg(feature = "generate")]
#[must_use]
pub fn lower_plainly(plan: &HostPlan) -> RuleProgram {
    lower_with(plan, |_| Room::default())
}

fn lower_with(plan: &HostPlan, room: impl Fn(&crate::plan::Chain) -> Room) -> RuleProgram {
    let mut program = RuleProgram::default();
    for chain in &plan.chains {
        let mut lowering = Lowering::new(chain.direction, room(chain));
        let rules = lowering.base(&chain.decisions);
        let last = chain.decisions.last().map(|decision| decision.act.verdict());
        program.chains.push(Chain {
            name: chain.direction.as_str().into(),
            base: Some(BaseChain {
                direction: chain.direction,
                passes: last == Some(Verdict::Allow),
            }),
            rules,
        });
        program.chains.append(&mut lowering.chains);
    }
    program.reopened = reopened(plan);
    program.sort();
    program
}

/// The TCP ports of inbound decisions that name programs.
fn reopened(plan: &HostPlan) -> RangeSet<u16> {
    let decisions = &plan.chain(Direction::Inbound).decisions;
    let conditions = decisions.iter().filter(|it| it.idle.is_none()).flat_map(|it| &it.conditions);
    let by_program = conditions.filter(|it| !it.programs.is_empty());
    by_program.fold(RangeSet::empty(), |ports, it| ports.union(&it.traffic.tcp))
}

/// One condition of a decision.
#[derive(Clone, Debug)]
pub(super) struct Item<'p> {
    pub decision: &'p Decision,
    pub condition: Rc<Condition>,
}

impl Item<'_> {
    /// The item with a part of its traffic.
    pub fn carrying(&self, traffic: TrafficSet) -> Self {
        let condition = if traffic == self.condition.traffic {
            Rc::clone(&self.condition)
        } else {
            Rc::new(Condition { traffic, ..Condition::clone(&self.condition) })
        };
        Self { decision: self.decision, condition }
    }

    /// The part that packets of one IP version can meet; what does not narrow them is full.
    fn of_family(&self, family: Family) -> Option<Self> {
        let mut condition = Condition::clone(&self.condition);
        for end in [&mut condition.source, &mut condition.destination] {
            if !end.has(family) {
                return None;
            }
            *end = if end.has_all(family) {
                crate::space::AddressSet::full()
            } else {
                end.only(family)
            };
        }
        condition.traffic = condition.traffic.of_family(family);
        (!condition.traffic.is_empty())
            .then(|| Self { decision: self.decision, condition: Rc::new(condition) })
    }
}

/// The lowering of one direction.
pub(super) struct Lowering {
    direction: Direction,
    /// The chains that are jumped to.
    pub chains: Vec<Chain>,
    /// Decisions that have a chain of their own.
    own: BTreeSet<String>,
    /// How many chains have been numbered.
    numbered: usize,
    /// How many bytes lookups may still take.
    pub room: Room,
}

/// How far a lowering had come.
#[derive(Clone, Copy)]
pub(super) struct Mark {
    chains: usize,
    numbered: usize,
    room: Room,
}

impl Lowering {
    fn new(direction: Direction, room: Room) -> Self {
        Self { direction, chains: Vec::new(), own: BTreeSet::new(), numbered: 0, room }
    }

    /// How far it has come.
    pub fn mark(&self) -> Mark {
        Mark { chains: self.chains.len(), numbered: self.numbered, room: self.room }
    }

    /// Goes back to where it was.
    pub fn rewind(&mut self, mark: Mark) {
        for chain in self.chains.drain(mark.chains..) {
            self.own.remove(&chain.name);
        }
        (self.numbered, self.room) = (mark.numbered, mark.room);
    }

    /// The rules that packets enter. The baseline and the default stay as they are; many written
    /// rules are arranged for each IP version, since addresses differ in size.
    fn base(&mut self, decisions: &[Decision]) -> Vec<ProgramRule> {
        let active = decisions.iter().filter(|decision| decision.idle.is_none());
        let items = active.flat_map(|decision| {
            let item = move |it: &Condition| Item { decision, condition: Rc::new(it.clone()) };
            decision.conditions.iter().map(item)
        });
        let (written, others): (Vec<Item<'_>>, Vec<Item<'_>>) =
            items.partition(|item| item.decision.id.kind == Kind::Rule);
        let (baseline, default): (Vec<Item<'_>>, Vec<Item<'_>>) =
            others.into_iter().partition(|item| item.decision.id.kind == Kind::Baseline);
        let mut rules = self.one_by_one(&baseline);
        if written.len() <= FEW {
            rules.extend(self.one_by_one(&written));
        } else {
            for family in Family::BOTH {
                let part: Vec<Item<'_>> =
                    written.iter().filter_map(|item| item.of_family(family)).collect();
                if part.is_empty() {
                    continue;
                }
                let word = if family == Family::V4 { "v4" } else { "v6" };
                let name = format!("{}/{word}", self.direction.as_str());
                let arranged = Arranger { lowering: self, family }.arrange(&part);
                self.chains.push(Chain { name: name.clone(), base: None, rules: arranged });
                rules.push(lead(vec![Test::Family(family)], Action::Jump(name)));
            }
        }
        rules.extend(self.one_by_one(&default));
        rules
    }

    /// The items as rules, in order.
    pub fn one_by_one(&mut self, items: &[Item<'_>]) -> Vec<ProgramRule> {
        let mut rules = Vec::with_capacity(items.len());
        for Item { decision, condition } in items {
            let (Act::Decide(verdict), None) = (decision.act, decision.log) else {
                let name = self.own_chain(decision);
                rules.extend(clauses(condition, false).into_iter().map(|tests| ProgramRule {
                    id: Some(decision.id.clone()),
                    tests,
                    action: Action::Jump(name.clone()),
                }));
                continue;
            };
            let reject = verdict == Verdict::Reject;
            rules.extend(clauses(condition, reject).into_iter().map(|tests| {
                let action = decide(verdict, &tests);
                ProgramRule { id: Some(decision.id.clone()), tests, action }
            }));
        }
        rules
    }

    /// The chain that does what the decision does to every packet, made when it is first asked
    /// for. It is shared by all that lead there: so a rate is one for the whole decision.
    pub fn own_chain(&mut self, decision: &Decision) -> String {
        let name = format!("{}/rule/{}", self.direction.as_str(), decision.id);
        if self.own.insert(name.clone()) {
            let rules = whole(decision);
            self.chains.push(Chain { name: name.clone(), base: None, rules });
        }
        name
    }

    /// A new chain with rules that several decisions may share.
    pub fn numbered_chain(&mut self, family: Family, rules: Vec<ProgramRule>) -> String {
        self.numbered += 1;
        let word = if family == Family::V4 { "v4" } else { "v6" };
        let name = format!("{}/{word}/{}", self.direction.as_str(), self.numbered);
        self.chains.push(Chain { name: name.clone(), base: None, rules });
        name
    }
}

/// A rule that only leads on.
pub(super) fn lead(tests: Vec<Test>, action: Action) -> ProgramRule {
    ProgramRule { id: None, tests, action }
}

fn decide(verdict: Verdict, tests: &[Test]) -> Action {
    match verdict {
        Verdict::Allow => Action::Allow,
        Verdict::Deny => Action::Deny,
        Verdict::Reject if tests.contains(&only_tcp()) => Action::Reset,
        Verdict::Reject => Action::Prohibit,
    }
}

fn only_tcp() -> Test {
    Test::Protocol(RangeSet::single(TCP))
}

/// What a decision does to every packet that is led to it.
fn whole(decision: &Decision) -> Vec<ProgramRule> {
    let rule = |tests, action| ProgramRule { id: Some(decision.id.clone()), tests, action };
    let mut rules = Vec::new();
    rules.extend(decision.log.map(|log| rule(Vec::new(), Action::Log(log.cap))));
    match decision.act {
        Act::Decide(Verdict::Reject) => {
            rules.push(rule(vec![only_tcp()], Action::Reset));
            rules.push(rule(Vec::new(), Action::Prohibit));
        }
        Act::Decide(verdict) => rules.push(rule(Vec::new(), decide(verdict, &[]))),
        // The excess falls through to the denial behind it: whatever happens to the limiter, it
        // cannot let more pass.
        Act::AllowWithin(rate) => {
            let within = |tests| rule(tests, Action::AllowWithin(rate));
            if rate.per_source {
                // Senders are told apart by different bytes in each IP version.
                rules.extend(Family::BOTH.map(|family| within(vec![Test::Family(family)])));
                let crowded = |family| rule(vec![Test::Family(family)], Action::AllowCrowded(rate));
                rules.extend(Family::BOTH.map(crowded));
            } else {
                rules.push(within(Vec::new()));
            }
            rules.push(rule(Vec::new(), Action::Deny));
        }
    }
    rules
}
