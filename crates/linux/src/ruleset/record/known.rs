//! What is led to the record, in rules that the kernel holds, and whether the record is as we make it.

use super::super::keys::Way as By;
use super::super::names::{TABLE, forget_counts};
use super::chains::{ENDS, Way, admitted, admitted_by, found_by, looked_up, refused, turn_away};
use super::decisions::{self, Decided, Refusal};
use super::duties::{Duties, Keeping};
use super::layout::{DECISION, PREFIX, Place, Steps, end, keeps};
use super::reports;
use foldhash::{HashMap, HashMapExt};
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{End, Key};
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{Element, Expression, Rule, Set, Verdict};

/// Where a rule leads in the record.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Leads {
    /// To where a packet is remembered and turned away, with this number of the decision.
    Refused(End, Refusal, u32),
    /// To where what a decision admits is remembered.
    Admitted,
    /// To where a lookup's decision gets its number from a map.
    Found(Found),
}

/// What a lookup leads to in the record.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Found {
    pub numbers: String,
    pub key: (Key, By),
    pub end: End,
    pub refusal: Option<Refusal>,
}

impl Leads {
    /// Takes the way into the record off the end of a rule: the rest, the verdict that it comes to, and where
    /// it leads.
    pub(crate) fn take(
        expressions: &[Expression],
    ) -> Option<(&[Expression], Expression, String, Self)> {
        let (last, rest) = expressions.split_last()?;
        let Expression::Immediate(Verdict::Goto(chain)) = last else { return None };
        if !chain.starts_with(PREFIX) {
            return None;
        }
        let known = ENDS.into_iter().find_map(|end| {
            Refusal::ALL.into_iter().find(|it| refused(end, *it) == *chain).map(|it| (end, it))
        });
        let Some((end, refusal)) = known else {
            let accept = Expression::Immediate(Verdict::Accept);
            return Some((rest, accept, chain.clone(), Self::Admitted));
        };
        let (before, way) = expressions.split_at(expressions.len().checked_sub(3)?);
        let Expression::Load { register: DECISION, data } = &way[0] else { return None };
        let number = u32::from_ne_bytes(data.as_slice().try_into().ok()?);
        if turn_away(number, end, refusal) != way {
            return None;
        }
        Some((before, refusal.verdict(), chain.clone(), Self::Refused(end, refusal, number)))
    }
}

/// The record as the kernel holds it.
pub(crate) struct Known {
    chains: HashMap<String, Vec<Steps>>,
    decisions: HashMap<u32, Decided>,
    numbers: HashMap<Decided, u32>,
    /// The ways to turn away that are as we make them, and the names of their chains.
    ways: HashMap<(End, Refusal), Vec<String>>,
    /// What is to be done.
    duties: Duties,
    /// Whether the sets are as we make them.
    intact: bool,
}

impl Known {
    /// From the rules of the record's chains, the sets of the table, what is in the record's own, and the numbers
    /// of decisions.
    pub(crate) fn new(
        rules: Vec<Rule>,
        sets: &[Set],
        maps: &HashMap<String, Vec<Element>>,
        numbers: &[Element],
    ) -> Self {
        let (decisions, duties) = (decisions::read(numbers), Duties::read(numbers, sets));
        let mut chains: HashMap<String, Vec<Steps>> = HashMap::new();
        for rule in rules {
            let mut steps = rule.expressions;
            forget_counts(&mut steps);
            chains.entry(rule.chain).or_default().push(steps);
        }
        let numbers = decisions.iter().map(|(number, it)| (it.clone(), *number)).collect();
        let (ways, intact) = (HashMap::new(), sets_are_ours(sets, &duties));
        let mut known = Self { chains, decisions, numbers, ways, duties, intact };
        for way in ENDS.into_iter().flat_map(|end| Refusal::ALL.map(|it| (end, it))) {
            let meant = Way::of(way.0, way.1, known.keeping(), 0);
            let map = meant.map.as_ref().is_none_or(|(set, elements)| {
                maps.get(&set.name).is_some_and(|it| same(it, elements))
            });
            if map && meant.chains.iter().all(|it| known.is(it)) {
                known.ways.insert(way, meant.chains.into_iter().map(|it| it.0).collect());
            }
        }
        known
    }

    fn keeping(&self) -> Keeping<'_> {
        Keeping { duties: &self.duties, place: Place::default() }
    }

    /// What it says that is remembered and reported.
    pub(crate) fn duties(&self) -> &Duties {
        &self.duties
    }

    fn is(&self, (name, rules): &(String, Vec<Steps>)) -> bool {
        self.chains.get(name) == Some(rules)
    }

    /// Whether it remembers as we have it do.
    pub(crate) fn is_intact(&self) -> bool {
        self.intact
    }

    /// The chains that decisions share.
    pub(crate) fn shared(&self) -> impl Iterator<Item = &String> {
        self.ways.values().flatten()
    }

    /// Whether what a rule is led to does what it should for the decision.
    pub(crate) fn holds(
        &self,
        chain: &str,
        leads: &Leads,
        direction: Direction,
        id: Option<&RuleId>,
    ) -> bool {
        if !self.intact {
            return false;
        }
        match leads {
            Leads::Refused(to, refusal, number) => {
                let Some(id) = id else { return false };
                let decided = Decided { direction, id: id.clone(), admitted: false };
                *to == end(direction)
                    && self.ways.contains_key(&(*to, *refusal))
                    && self.decisions.get(number) == Some(&decided)
            }
            Leads::Admitted => {
                let Some(id) = id else { return false };
                let decided = Decided { direction, id: id.clone(), admitted: true };
                let made = |number: &u32| admitted(direction, id, *number, self.keeping());
                let is = self.numbers.get(&decided).is_some_and(|it| self.is(&made(it)));
                is && chain == admitted_by(direction, id)
            }
            Leads::Found(it) => {
                let numbers = (it.numbers.as_str(), 0);
                chain == found_by(&it.numbers, it.end, it.refusal)
                    && it.end == end(direction)
                    && it.refusal.is_none_or(|how| self.ways.contains_key(&(it.end, how)))
                    && self.is(&looked_up(numbers, it.key, it.end, it.refusal, self.keeping()))
            }
        }
    }
}

/// Whether the elements of a map are the same, in whatever order.
fn same(found: &[Element], meant: &[Element]) -> bool {
    let plain = |it: &Element| (it.key.clone(), it.verdict.clone());
    let sorted = |list: &[Element]| {
        let mut list: Vec<_> = list.iter().map(plain).collect();
        list.sort_by(|a, b| a.0.cmp(&b.0));
        list
    };
    sorted(found) == sorted(meant)
}

/// Whether the sets that duties need are as we make them, and those of the record there only if it is.
fn sets_are_ours(sets: &[Set], duties: &Duties) -> bool {
    let place = Place::default();
    let record = duties.record.map(|it| place.sets(it)).into_iter().flatten();
    let reports = duties.logging.map(|it| reports::sets(&it, place)).into_iter().flatten();
    (duties.record.is_some() || keeps(sets).is_none())
        && record.chain(reports).all(|meant| {
            sets.iter().any(|it| {
                let of = |it: &Set| {
                    (it.name.clone(), it.flags, it.key_length, it.size, it.timeout, it.counted)
                };
                it.table == TABLE && of(it) == of(&meant)
            })
        })
}
