//! Rules whose packets are remembered.

use super::super::keys;
use super::super::names::{TABLE, user_data};
use super::super::record::{
    self, Began, Callers, Decided, Decisions, Duties, Place, Refusal, Way, admitted, end, looked_up,
};
use super::carried::Before;
use super::encoder::Encoder;
use super::record::Remembering;
use super::sets::end_of;
use foldhash::HashMap;
use std::collections::HashSet;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{End, Lookup, RuleProgram, Then};
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{self as nf, Element, Expression, Verdict};

impl Encoder<'_> {
    /// Makes the sets for what is done about decisions, and what all decisions share.
    pub(super) fn begin_record(&mut self, program: &RuleProgram, before: &Before<'_>) {
        let RuleProgram { record, logging, .. } = *program;
        let duties = Duties { record, logging, list: String::new() };
        if !duties.are_there() {
            return;
        }
        let mut number = || {
            self.sets += 1;
            self.sets
        };
        let mut place = Place::default();
        if let Some(record) = record {
            (place.callers, place.first, place.crowded) = (number(), number(), number());
            for set in place.sets(record) {
                self.batch.new_set(&set);
            }
        }
        if let Some(logging) = logging {
            place.reports = [number(), number(), number()];
            for set in record::sets_of_reports(&logging, place) {
                self.batch.new_set(&set);
            }
        }
        let mut numbers = before.known.map(Decisions::unbegun).unwrap_or_default();
        let known = match (before.callers, before.known) {
            (Some(callers), _) => callers.since(),
            (None, Some(known)) => known.since(),
            (None, None) => HashMap::default(),
        };
        for rule in program.admitting.iter().cloned() {
            let since = known.get(&rule).copied().unwrap_or(before.now);
            numbers.begin(Began { rule, since });
        }
        let (made, ways, later) = (HashSet::new(), HashSet::new(), Vec::new());
        self.remembering = Some(Remembering { duties, place, numbers, made, ways, later });
    }

    /// Makes the chains that turn away so, unless they are there.
    fn way(&mut self, end: End, refusal: Refusal) {
        let Some(remembering) = &mut self.remembering else { return };
        if !remembering.ways.insert((end, refusal)) {
            return;
        }
        self.sets += 1;
        let Way { map, chains } = Way::of(end, refusal, remembering.keeping(), self.sets);
        // Maps lead to chains, and rules use maps.
        for (name, _) in &chains {
            self.new_chain_of_record(name);
        }
        if let Some((set, elements)) = map {
            self.batch.new_set(&set);
            self.batch.new_elements(&set, &elements);
        }
        for (name, rules) in chains {
            self.rules_of_record(&name, rules);
        }
    }

    /// Says which number stands for which decision, and goes on from what is remembered already.
    pub(super) fn end_record(&mut self, callers: Option<&Callers>) {
        let Some(mut remembering) = self.remembering.take() else { return };
        if let (Some(callers), Some(record)) = (callers, remembering.duties.record) {
            let carried = record::carry(callers, record, &mut remembering.numbers);
            let [seen, first, _] = remembering.place.sets(record);
            self.batch.new_elements(&seen, &carried.0);
            self.batch.new_elements(&first, &carried.1);
        }
        if remembering.duties.logging.is_some() {
            remembering.duties.list = format!("{:016x}", remembering.numbers.fingerprint());
        }
        self.sets += 1;
        let (set, mut elements) = remembering.numbers.set(self.sets);
        elements.insert(0, remembering.duties.element());
        self.batch.new_set(&set);
        let message = self.batch.new_elements(&set, &elements);
        self.ledger.note(message, None);
        for (chain, mut expressions) in remembering.later {
            for step in &mut expressions {
                if let Expression::Log { prefix, .. } = step {
                    prefix.push_str(&remembering.duties.list);
                }
            }
            let rule = nf::Rule {
                table: TABLE.into(),
                chain,
                user_data: user_data(""),
                expressions,
                ..nf::Rule::default()
            };
            self.batch.new_rule(&rule, None);
        }
    }

    /// Has a rule's last step remember the packet, if it is one that is to be.
    pub(super) fn remember(
        &mut self,
        direction: Option<Direction>,
        id: Option<&RuleId>,
        steps: &mut Vec<Expression>,
    ) {
        let (Some(remembering), Some(direction), Some(id)) = (&mut self.remembering, direction, id)
        else {
            return;
        };
        let refusal = match steps.last() {
            Some(Expression::Immediate(Verdict::Drop)) => Some(Refusal::Drop),
            Some(Expression::Reject { kind: nf::RejectKind::TcpReset, .. }) => Some(Refusal::Reset),
            Some(Expression::Reject { .. }) => Some(Refusal::Prohibit),
            Some(Expression::Immediate(Verdict::Accept)) => None,
            _ => return,
        };
        let admits = refusal.is_none();
        if !remembering.duties.concern_decision(id, admits) {
            return;
        }
        let decided = Decided { direction, id: id.clone(), admitted: admits };
        let number = remembering.numbers.number(&decided);
        steps.pop();
        let Some(refusal) = refusal else {
            let chain = admitted(direction, id, number, remembering.keeping());
            steps.push(Expression::Immediate(Verdict::Goto(chain.0.clone())));
            if remembering.made.insert(chain.0.clone()) {
                self.chain_of_record(chain);
            }
            return;
        };
        let end = end(direction);
        steps.extend(record::turn_away(number, end, refusal));
        self.way(end, refusal);
    }

    /// What the entries of a lookup lead to instead of verdicts, where they are to be remembered: the numbers
    /// of their decisions are in a map of their own.
    pub(super) fn looked_up(
        &mut self,
        direction: Option<Direction>,
        lookup: &Lookup,
        map: &str,
        elements: &mut [Element],
    ) {
        let (Some(remembering), Some(direction)) = (&mut self.remembering, direction) else {
            return;
        };
        let (mut numbered, mut chains) = (Vec::new(), HashSet::new());
        let name = record::numbers_of(map);
        let way = keys::Way::of(lookup);
        let end = end(direction);
        let mut starts = elements.iter_mut().filter(|it| !it.ends_interval);
        for entry in &lookup.entries {
            let Some(element) = starts.next() else { break };
            let Some((id, refusal)) = remembered(&entry.then, &remembering.duties) else {
                continue;
            };
            let admitted = refusal.is_none();
            let number =
                remembering.numbers.number(&Decided { direction, id: id.clone(), admitted });
            element.verdict = Some(Verdict::Goto(record::found_by(&name, end, refusal)));
            chains.insert(refusal);
            let first = keys::bytes(lookup.key, entry.first);
            numbered.push(Element { number: Some(number), ..Element::key(first) });
            numbered.extend(end_of(lookup.key, entry).filter(|_| way.by_intervals()));
        }
        if numbered.is_empty() {
            return;
        }
        self.sets += 1;
        let set = nf::Set {
            table: TABLE.into(),
            name,
            flags: way.flags(),
            key_length: keys::length(lookup.key),
            id: self.sets,
            size: way.size(numbered.len()),
            numbers: true,
            ..nf::Set::default()
        };
        self.batch.new_set(&set);
        let message = self.batch.new_elements(&set, &numbered);
        self.ledger.note(message, None);
        for refusal in [None, Some(Refusal::Drop)].into_iter().filter(|it| chains.contains(it)) {
            if let Some(refusal) = refusal {
                self.way(end, refusal);
            }
            let numbers = (set.name.as_str(), set.id);
            let Some(remembering) = &self.remembering else { return };
            let chain = looked_up(numbers, (lookup.key, way), end, refusal, remembering.keeping());
            self.chain_of_record(chain);
        }
    }

    fn chain_of_record(&mut self, (name, rules): (String, Vec<Vec<Expression>>)) {
        self.new_chain_of_record(&name);
        self.rules_of_record(&name, rules);
    }

    fn new_chain_of_record(&mut self, name: &str) {
        self.batch.new_chain(&nf::Chain {
            table: TABLE.into(),
            name: name.into(),
            family: nf::FAMILY_INET,
            ..nf::Chain::default()
        });
    }

    fn rules_of_record(&mut self, name: &str, rules: Vec<Vec<Expression>>) {
        let Some(remembering) = &mut self.remembering else { return };
        remembering.later.extend(rules.into_iter().map(|it| (name.to_owned(), it)));
    }
}

/// Whose an entry is about which something is done, and how it turns away, if it does.
fn remembered<'t>(then: &'t Then, duties: &Duties) -> Option<(&'t RuleId, Option<Refusal>)> {
    let (id, refusal) = match then {
        Then::Deny(id) => (id, Some(Refusal::Drop)),
        Then::Allow(id) => (id, None),
        _ => return None,
    };
    duties.concern_decision(id, refusal.is_none()).then_some((id, refusal))
}
