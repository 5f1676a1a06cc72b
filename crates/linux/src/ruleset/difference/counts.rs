//! What is counted by what goes, and where that is to go on.

use super::super::encode::{Parts, RulePart};
use super::super::names::{counters, text_of};
use super::super::tally::{Count, Tally};
use std::collections::{HashMap, HashSet};
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::Counted;
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{Element, Expression, Rule};

/// What has been counted by what goes, for each decision.
#[derive(Default)]
pub(super) struct Counts {
    of: HashMap<(Direction, RuleId, Counted), Count>,
}

impl Counts {
    /// What has been counted by then.
    pub(super) fn of(tallies: &[Tally]) -> Self {
        let mut counts = Self::default();
        for Tally { direction, id, taken, excess, crowded } in tallies {
            let all = [(Counted::Taken, Some(taken)), (Counted::Excess, excess.as_ref())];
            for (counted, count) in all.into_iter().chain([(Counted::Crowded, crowded.as_ref())]) {
                counts.add((*direction, id.clone(), counted), count.copied().unwrap_or_default());
            }
        }
        counts
    }

    /// Notes what a rule has counted that goes, as the kernel has it.
    pub(super) fn note(&mut self, part: &RulePart, found: &Rule) {
        let Some((direction, id, first)) = &part.counts else { return };
        let counters = found.expressions.iter().filter_map(|it| match it {
            Expression::Counter { packets, bytes } => {
                Some(Count { packets: *packets, bytes: *bytes })
            }
            _ => None,
        });
        for (at, count) in counters.enumerate() {
            // Behind the counter of all who came there crowded is one of those who were taken.
            let counted = if at == 0 { *first } else { Counted::Taken };
            self.add((*direction, id.clone(), counted), count);
        }
    }

    /// Likewise for an element of a map.
    pub(super) fn note_element(&mut self, direction: Direction, element: &Element) {
        let (Some(id), Some((packets, bytes))) = (id_of(element), element.count) else { return };
        self.add((direction, id, Counted::Taken), Count { packets, bytes });
    }

    fn add(&mut self, key: (Direction, RuleId, Counted), count: Count) {
        if count != Count::default() {
            self.of.entry(key).or_default().add(count);
        }
    }

    /// Has decisions begin to count anew.
    pub(super) fn forget(&mut self, reset: &HashSet<&str>) {
        self.of.retain(|it, _| !reset.contains(it.1.to_string().as_str()));
    }

    /// The rule, to go on counting from there.
    pub(super) fn carried(&mut self, part: &RulePart) -> Rule {
        let mut rule = part.rule.clone();
        let taken = part.counts.clone().and_then(|it| self.of.remove(&it));
        let counter = counters(&mut rule.expressions).next();
        if let (Some(count), Some((packets, bytes))) = (taken, counter) {
            (*packets, *bytes) = (count.packets, count.bytes);
        }
        rule
    }

    /// Likewise the element.
    pub(super) fn carried_element(&mut self, direction: Direction, element: &Element) -> Element {
        let id = id_of(element);
        let taken = id.and_then(|id| self.of.remove(&(direction, id, Counted::Taken)));
        Element { count: taken.map(|it| (it.packets, it.bytes)), ..element.clone() }
    }

    /// Whether all that was counted for decisions of `parts` goes on somewhere.
    pub(super) fn all_go_on(&self, parts: &Parts) -> bool {
        if self.of.is_empty() {
            return true;
        }
        let rules = parts.chains.values().flat_map(|it| &it.rules);
        let of_rules = rules.filter_map(|it| it.counts.as_ref()).map(|it| (it.0, it.1.clone()));
        let maps = parts.sets.values().filter_map(|it| Some((it.counts?, &it.elements)));
        let of_maps = maps.flat_map(|(direction, elements)| {
            elements.iter().filter_map(move |it| Some((direction, id_of(it)?)))
        });
        let there: HashSet<(Direction, RuleId)> = of_rules.chain(of_maps).collect();
        !self.of.keys().any(|it| there.contains(&(it.0, it.1.clone())))
    }
}

/// The decision that an element of a map serves.
fn id_of(element: &Element) -> Option<RuleId> {
    text_of(&element.user_data).filter(|it| !it.is_empty()).map(RuleId::parse)
}
