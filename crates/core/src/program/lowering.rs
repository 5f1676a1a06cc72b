//! Decisions to rules and chains, one by one.

use super::clauses::clauses;
use super::item::Item;
use super::model::{Action, Chain, ProgramRule, Sender, Test};
use super::room::{self, Room};
use crate::fnv::Fnv;
use crate::plan::{Act, Condition, Decision};
use crate::policy::Verdict;
use crate::space::{Direction, Family, RangeSet, TCP};
use std::collections::{BTreeSet, HashMap, HashSet};
use std::hash::{Hash, Hasher};
use std::sync::Arc;

/// The lowering of one direction.
pub(super) struct Lowering {
    pub direction: Direction,
    /// The chains that are jumped to.
    pub chains: Vec<Chain>,
    /// Decisions that have a chain of their own.
    own: BTreeSet<String>,
    /// The chains for conditions that take much to tell and occur in many lists.
    told: HashMap<*const Condition, (Arc<Condition>, String)>,
    /// Chains named by what is in them, and where they are.
    named: HashMap<String, usize>,
    /// How many bytes lookups may still take.
    pub room: Room,
}

/// How far a lowering had come.
#[derive(Clone, Copy)]
pub(super) struct Mark {
    chains: usize,
    room: Room,
}

impl Lowering {
    /// A lowering that has made no chain yet.
    pub(super) fn new(direction: Direction, room: Room) -> Self {
        Self {
            direction,
            chains: Vec::new(),
            own: BTreeSet::new(),
            told: HashMap::new(),
            named: HashMap::new(),
            room,
        }
    }

    /// How far it has come.
    pub(super) fn mark(&self) -> Mark {
        Mark { chains: self.chains.len(), room: self.room }
    }

    /// Goes back to where it was.
    pub(crate) fn rewind(&mut self, mark: Mark) {
        let gone: HashSet<String> = self.chains.drain(mark.chains..).map(|it| it.name).collect();
        self.own.retain(|it| !gone.contains(it));
        self.told.retain(|_, it| !gone.contains(&it.1));
        gone.iter().for_each(|it| _ = self.named.remove(it));
        self.room = mark.room;
    }

    /// The items as rules, in order.
    pub(crate) fn one_by_one(&mut self, items: &[Item<'_>]) -> Vec<ProgramRule> {
        let mut rules = Vec::with_capacity(items.len());
        for Item { decision, condition, .. } in items {
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

    /// Likewise for one list of many that an item may occur in: where it takes much to tell one, that is told once, in
    /// a chain.
    pub(super) fn among_others(&mut self, items: &[Item<'_>], family: Family) -> Vec<ProgramRule> {
        let mut rules = Vec::with_capacity(items.len());
        for item in items {
            let known = self.told.get(&Arc::as_ptr(&item.condition)).map(|it| it.1.clone());
            if let Some(chain) = known {
                rules.push(lead(Vec::new(), Action::Jump(chain)));
                continue;
            }
            let own = self.one_by_one(std::slice::from_ref(item));
            if !room::is_heavy(&item.condition) || Arc::strong_count(&item.condition) == 1 {
                rules.extend(own);
                continue;
            }
            let chain = self.chain_of(family, own);
            let key = (Arc::clone(&item.condition), chain.clone());
            self.told.insert(Arc::as_ptr(&item.condition), key);
            rules.push(lead(Vec::new(), Action::Jump(chain)));
        }
        rules
    }

    /// The chain that does what the decision does to every packet, made when it is first asked
    /// for. It is shared by all that lead there: so a rate is one for the whole decision.
    pub(crate) fn own_chain(&mut self, decision: &Decision) -> String {
        let name = format!("{}/rule/{}", self.direction.as_str(), decision.id);
        if self.own.insert(name.clone()) {
            let rules = whole(decision);
            self.chains.push(self.helper(&name, rules));
        }
        name
    }

    /// The chain with these rules, which several decisions may share. It is named by what is in it: what an edit of
    /// the policy leaves alone is called as before.
    pub(crate) fn chain_of(&mut self, family: Family, rules: Vec<ProgramRule>) -> String {
        let word = if family == Family::V4 { "v4" } else { "v6" };
        let mut hasher = Fnv::default();
        rules.hash(&mut hasher);
        self.called(format!("{}/{word}/{:016x}", self.direction.as_str(), hasher.finish()), rules)
    }

    /// The chain of that name with these rules; of another name, if others have it.
    fn called(&mut self, mut name: String, rules: Vec<ProgramRule>) -> String {
        while let Some(at) = self.named.get(&name) {
            if self.chains[*at].rules == rules {
                return name;
            }
            name.push('+');
        }
        self.named.insert(name.clone(), self.chains.len());
        self.chains.push(self.helper(&name, rules));
        name
    }

    /// Takes in the chains that were made for a part of the list. Those of decisions are the same in each.
    pub(super) fn join(&mut self, chains: Vec<Chain>) {
        for chain in chains {
            if self.own.insert(chain.name.clone()) {
                self.chains.push(chain);
            }
        }
    }

    /// A chain that rules of this direction jump to.
    pub(super) fn helper(&self, name: &str, rules: Vec<ProgramRule>) -> Chain {
        Chain { name: name.to_owned(), direction: Some(self.direction), base: None, rules }
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
            if rate.per_source {
                // Senders are told apart by different bytes in each IP version.
                for action in [Action::AllowEach, Action::AllowCrowded] {
                    let of = |family| {
                        rule(vec![Test::Family(family)], action(rate, Sender::over(family)))
                    };
                    rules.extend(Family::BOTH.map(of));
                }
            } else {
                rules.push(rule(Vec::new(), Action::AllowWithin(rate)));
            }
            rules.push(rule(Vec::new(), Action::Deny));
        }
    }
    rules
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Chains of one number keep apart, and what is gone again leaves its name to others.
    #[test]
    fn chains_that_share_a_number_are_told_apart() {
        let mut lowering = Lowering::new(Direction::Inbound, Room::default());
        let start = lowering.mark();
        let rules = |action| vec![lead(Vec::new(), action)];
        let mut called = |action| lowering.called("a".into(), rules(action));
        assert_eq!(called(Action::Allow), "a");
        assert_eq!(called(Action::Deny), "a+");
        assert_eq!((called(Action::Allow), called(Action::Deny)), ("a".into(), "a+".into()));
        assert_eq!(called(Action::Reset), "a++");
        lowering.rewind(start);
        assert_eq!(lowering.called("a".into(), rules(Action::Deny)), "a");
        assert_eq!(lowering.chains.len(), 1);
    }
}
