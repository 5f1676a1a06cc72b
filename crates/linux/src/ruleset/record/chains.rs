//! The record's chains.

use super::super::keys;
use super::super::names::TABLE;
use super::decisions::Refusal;
use super::duties::Keeping;
use super::form::{Behind, Form, number};
use super::layout::{DECISION, KIND, PREFIX, PROTOCOL, Steps, word};
use super::reports;
use super::steps::{Memory, begins_nothing, carried, carry_on, numbered};
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{End, Key};
use tipstaff_core::space::{Direction, Family};
use tipstaff_wire::nf_tables::{
    Compare, Element, Expression, MetaKey, Set, Verdict, registers, set_flags,
};

/// A chain by name, and its rules.
pub(crate) type Made = (String, Vec<Steps>);

/// Both ends of packets.
pub(crate) const ENDS: [End; 2] = [End::Source, End::Destination];

/// The chain that remembers, and turns away.
pub(crate) fn refused(end: End, refusal: Refusal) -> String {
    format!("{PREFIX}{}/{}", word(end), refusal.word())
}

/// The chain that it leads to for packets of a form.
fn of_form(end: End, refusal: Refusal, form: Form) -> String {
    format!("{}/{}", refused(end, refusal), form.word())
}

/// The chain that remembers what a decision admits, and admits it.
pub(crate) fn admitted_by(direction: Direction, id: &RuleId) -> String {
    format!("{PREFIX}{}/{id}", direction.as_str())
}

/// The map with the numbers of the decisions of a lookup's map.
pub(crate) fn numbers_of(map: &str) -> String {
    format!("numbers/{map}")
}

/// The chain in which what a lookup has decided gets its number; without a refusal it is admitted.
pub(crate) fn found_by(numbers: &str, end: End, refusal: Option<Refusal>) -> String {
    format!("{PREFIX}{numbers}/{}/{}", word(end), refusal.map_or("admit", Refusal::word))
}

/// How packets are remembered and turned away, for all decisions that do so.
pub(crate) struct Way {
    /// Which chain is for packets of which form: the map, and what is in it; `None` if nothing is remembered.
    pub map: Option<(Set, Vec<Element>)>,
    /// The chains, first the one that is led to.
    pub chains: Vec<Made>,
}

impl Way {
    /// With this number of the map in the batch that makes it.
    pub(crate) fn of(end: End, refusal: Refusal, keeping: Keeping<'_>, map: u32) -> Self {
        let mut first = reports::rules(keeping, end, Some(refusal), &[carried()]);
        if !keeping.duties.remember(false) {
            first.push(vec![refusal.verdict()]);
            return Self { map: None, chains: vec![(refused(end, refusal), first)] };
        }
        first.extend(by_form(end, refusal, map));
        let place = keeping.place;
        let mut chains = vec![(refused(end, refusal), first)];
        let mut elements = Vec::new();
        for form in Form::of_headers() {
            let Form::Headers(family, _) = form else { continue };
            let name = of_form(end, refusal, form);
            elements.extend(form.protocols().iter().map(|protocol| Element {
                verdict: Some(Verdict::Goto(name.clone())),
                ..Element::key(vec![number(family), 0, 0, 0, *protocol, 0, 0, 0])
            }));
            let (decision, then) = (vec![carried()], refusal.verdict());
            chains.push((name, Memory { end, form, decision, place, then }.rules()));
        }
        let set = Set {
            table: TABLE.into(),
            name: refused(end, refusal),
            flags: set_flags::CONSTANT | set_flags::MAP,
            key_length: 8,
            id: map,
            size: u32::try_from(elements.len()).ok(),
            verdicts: true,
            ..Set::default()
        };
        Self { map: Some((set, elements)), chains }
    }
}

/// Leads a packet on to the chain for its form.
fn by_form(end: End, refusal: Refusal, id: u32) -> Vec<Steps> {
    let family = Expression::Meta { key: MetaKey::Family, register: KIND };
    let set = refused(end, refusal);
    let mut rules = vec![vec![
        family.clone(),
        Expression::Meta { key: MetaKey::Protocol, register: PROTOCOL },
        Expression::Lookup { register: KIND, set, id, flags: 0, to_verdict: true },
    ]];
    rules.extend(Family::BOTH.map(|version| {
        let to = of_form(end, refusal, Form::Headers(version, Behind::Other));
        let data = vec![number(version)];
        let is = Expression::Cmp { register: KIND, op: Compare::Equal, data };
        vec![family.clone(), is, Expression::Immediate(Verdict::Goto(to))]
    }));
    rules
}

/// What a rule does instead of turning a packet away: its number, and where it goes.
pub(crate) fn turn_away(number: u32, end: End, refusal: Refusal) -> [Expression; 3] {
    let to = Verdict::Goto(refused(end, refusal));
    [numbered(number), carry_on(), Expression::Immediate(to)]
}

/// The chain of a decision that admits.
pub(crate) fn admitted(
    direction: Direction,
    id: &RuleId,
    number: u32,
    keeping: Keeping<'_>,
) -> Made {
    let decision = vec![numbered(number)];
    (admitted_by(direction, id), admit(super::end(direction), decision, keeping))
}

/// The chain in which what a lookup has decided gets its number.
pub(crate) fn looked_up(
    numbers: (&str, u32),
    (key, way): (Key, keys::Way),
    end: End,
    refusal: Option<Refusal>,
    keeping: Keeping<'_>,
) -> Made {
    let mut decision = keys::load(key, way);
    decision.push(Expression::Find {
        register: registers::FIRST,
        set: numbers.0.into(),
        id: numbers.1,
        destination: DECISION,
    });
    let rules = match refusal {
        None => admit(end, decision, keeping),
        Some(refusal) => {
            decision.push(carry_on());
            decision.push(Expression::Immediate(Verdict::Goto(refused(end, refusal))));
            vec![decision]
        }
    };
    (found_by(numbers.0, end, refusal), rules)
}

/// Remembers and reports what begins a connection, as far as that is wanted, and admits; all else is admitted only.
fn admit(end: End, decision: Steps, keeping: Keeping<'_>) -> Vec<Steps> {
    let then = Expression::Immediate(Verdict::Accept);
    let mut rules = vec![begins_nothing(then.clone())];
    rules.extend(reports::rules(keeping, end, None, &decision));
    if keeping.duties.remember(true) {
        let place = keeping.place;
        rules.extend(Memory { end, form: Form::Connection, decision, place, then }.rules());
    } else {
        rules.push(vec![then]);
    }
    rules
}
