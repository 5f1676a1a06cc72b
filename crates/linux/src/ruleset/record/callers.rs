//! The entries of the record: who came for what, how often, first and last.

use super::super::ledger::{Ledger, send};
use super::super::listed::{self, rules_of, sets};
use super::super::names::TABLE;
use super::decisions::{self, Began, Decided, Decisions};
use super::duties::remembers_admitted;
use super::key::{Key, Wanted, Who};
use super::layout::{CALLERS, DECISIONS, FIRST, MOST, PREFIX, Place, keeps};
use super::reports;
use crate::LinuxError;
use crate::transport::Transport;
// Callers choose their addresses, so what they are looked up by is not hashed by what is fastest.
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Record;
use tipstaff_core::program::Admitting;
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{self as nf, Batch, Element, Expression};

const READING: &str = "read who came";
/// So many elements are told the kernel at once: some hundred kilobytes.
const PART: usize = 2_048;

/// One entry: packets of one sender that were for one thing, and fared alike by one decision.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Caller {
    /// The direction of the packets.
    pub direction: Direction,
    /// What decided them.
    pub decision: RuleId,
    /// Whether they were admitted.
    pub admitted: bool,
    /// Who it was.
    pub who: Who,
    /// What it wanted.
    pub wanted: Wanted,
    /// How many packets; of a connection that is admitted the first only.
    pub count: u64,
    /// How many milliseconds ago the first came; `None`: longer ago than is remembered, or not asked.
    pub first: Option<u64>,
    /// How many milliseconds ago the last came.
    pub last: u64,
}

/// What the kernel remembers.
#[derive(Clone, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Callers {
    /// The entries, in no order.
    pub list: Vec<Caller>,
    /// For how many seconds after they came last.
    pub keeps: u32,
    /// Whether also what is admitted is remembered.
    pub admitted: bool,
    /// Packets for which there was no room.
    pub no_room: u64,
    /// Since when it is remembered whom each rule admits.
    #[serde(default)]
    pub begun: Vec<Began>,
}

impl Callers {
    /// Those who came last, at most so many.
    pub(crate) fn latest(&self, most: usize) -> Self {
        let mut list = self.list.clone();
        list.sort_by_key(|it| it.last);
        list.truncate(most);
        Self { list, begun: self.begun.clone(), ..*self }
    }

    /// Since when it is remembered whom each rule admits, by what it means; nothing of any, if somebody was left out
    /// for want of room.
    #[must_use]
    pub fn since(&self) -> foldhash::HashMap<&Admitting, u64> {
        let begun = self.begun.iter().filter(|_| self.no_room == 0);
        begun.map(|it| (&it.rule, it.since)).collect()
    }
}

/// Reads what the kernel remembers; `None` if it is to remember nothing.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn read(transport: &mut dyn Transport) -> Result<Option<Callers>, LinuxError> {
    let Some(callers) = entries(transport)? else { return Ok(None) };
    Ok(Some(Callers { no_room: no_room(transport)?, ..callers }))
}

/// What says which number stands for which decision, and what is done about decisions; `None` if nothing is.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub(crate) fn numbers(transport: &mut dyn Transport) -> Result<Option<Vec<Element>>, LinuxError> {
    let there =
        sets(transport, READING)?.iter().any(|it| it.table == TABLE && it.name == DECISIONS);
    there.then(|| elements(transport, DECISIONS)).transpose()
}

/// Likewise, without what found no room, for which all rules have to be read.
///
/// # Errors
/// As for [`read`].
pub(crate) fn entries(transport: &mut dyn Transport) -> Result<Option<Callers>, LinuxError> {
    let Some(keeps) = keeps(&sets(transport, READING)?) else { return Ok(None) };
    let (callers, first) = (elements(transport, CALLERS)?, elements(transport, FIRST)?);
    let numbers = elements(transport, DECISIONS)?;
    let age = |it: &Element| (u64::from(keeps) * 1_000).saturating_sub(it.expires.unwrap_or(0));
    let first: HashMap<&[u8], u64> = first.iter().map(|it| (&it.key[..], age(it))).collect();
    let decisions = decisions::read(&numbers);
    let one = |it: &Element| {
        let key = Key::parse(&it.key)?;
        let Decided { direction, id, admitted } = decisions.get(&key.decision)?.clone();
        let counted = it.count.unwrap_or_default();
        Some(Caller {
            direction,
            decision: id,
            admitted,
            who: key.who,
            wanted: key.wanted,
            count: key.count(counted.0),
            first: first.get(&it.key[..]).copied().filter(|_| key.wanted != Wanted::Several),
            last: age(it),
        })
    };
    let list = callers.iter().filter_map(one).collect();
    Ok(Some(Callers {
        list: if decisions.values().any(|it| it.id.later) { together(list) } else { list },
        keeps,
        admitted: remembers_admitted(&numbers),
        no_room: 0,
        begun: decisions::begun(&numbers),
    }))
}

/// Puts together what one decision is remembered for under both its names: while a posture held, and later.
fn together(list: Vec<Caller>) -> Vec<Caller> {
    let mut places = HashMap::new();
    let mut whole: Vec<Caller> = Vec::with_capacity(list.len());
    for mut caller in list {
        caller.decision.later = false;
        let key =
            (caller.direction, caller.decision.clone(), caller.admitted, caller.who, caller.wanted);
        match places.get(&key) {
            None => {
                places.insert(key, whole.len());
                whole.push(caller);
            }
            Some(&at) => {
                let known: &mut Caller = &mut whole[at];
                known.count += caller.count;
                known.first = known.first.zip(caller.first).map(|(one, other)| one.max(other));
                known.last = known.last.min(caller.last);
            }
        }
    }
    whole
}

/// Has the kernel remember again who came before, a part at a time, since not everybody may send much at once: what
/// it remembers by now goes first.
///
/// # Errors
/// [`LinuxError`] if the kernel refuses.
pub(crate) fn remind(transport: &mut dyn Transport, before: &Callers) -> Result<(), LinuxError> {
    let Some(now) = entries(transport)? else { return Ok(()) };
    let record = Record { admitted: now.admitted, keeps: now.keeps };
    let mut numbers = Decisions::of(&elements(transport, DECISIONS)?);
    let had = numbers.count();
    let key = |it: &Caller| (it.direction, it.decision.clone(), it.admitted, it.who, it.wanted);
    let there: HashSet<_> = now.list.iter().map(key).collect();
    let mut missing = Callers { list: before.list.clone(), begun: Vec::new(), ..*before };
    missing.list.retain(|it| !there.contains(&key(it)));
    let missing = missing.latest(MOST.saturating_sub(now.list.len()));
    let (seen, first) = carry(&missing, record, &mut numbers);
    let (decisions, all) = numbers.set(0);
    let new = all.get(had..).unwrap_or_default();
    let earlier = earlier(&now, before);
    begin_again(transport, &mut numbers, earlier)?;
    let [callers, firsts, _] = Place::default().sets(record);
    for (set, elements) in [(&decisions, new), (&callers, &seen), (&firsts, &first)] {
        for part in elements.chunks(PART) {
            let mut batch = Batch::begin(transport.next_sequence());
            batch.new_elements(set, part);
            send(transport, "remember who came", batch, &Ledger::default())?;
        }
    }
    Ok(())
}

/// Of the rules that mean what they did before, those whose remembering began earlier than is known by now.
fn earlier(now: &Callers, before: &Callers) -> Vec<Began> {
    let known = before.since();
    let begun = now.begun.iter().filter_map(|it| {
        let since = known.get(&it.rule).copied().filter(|before| *before < it.since)?;
        Some(Began { since, ..it.clone() })
    });
    begun.collect()
}

/// Has the kernel say of rules, which have numbers, since when it is remembered whom they admit.
fn begin_again(
    transport: &mut dyn Transport,
    numbers: &mut Decisions,
    begun: Vec<Began>,
) -> Result<(), LinuxError> {
    let of: HashSet<u32> = begun.into_iter().map(|it| numbers.begin(it)).collect();
    let (set, all) = numbers.set(0);
    let number = |it: &Element| it.key.as_slice().try_into().ok().map(u32::from_ne_bytes);
    let changed: Vec<Element> =
        all.into_iter().filter(|it| number(it).is_some_and(|it| of.contains(&it))).collect();
    for part in changed.chunks(PART) {
        let mut batch = Batch::begin(transport.next_sequence());
        batch.delete_elements(&set, part);
        batch.new_elements(&set, part);
        send(transport, "remember who came", batch, &Ledger::default())?;
    }
    Ok(())
}

/// Has the kernel forget who came: it is remembered from now on whom rules admit.
///
/// # Errors
/// [`LinuxError`] if the kernel refuses.
pub(crate) fn forget(transport: &mut dyn Transport, now: u64) -> Result<(), LinuxError> {
    let held = entries(transport)?;
    let mut batch = Batch::begin(transport.next_sequence());
    for set in Place::default().sets(Record::USUAL) {
        batch.empty_set(&set);
    }
    send(transport, "forget who came", batch, &Ledger::default())?;
    let Some(held) = held else { return Ok(()) };
    let mut numbers = Decisions::of(&elements(transport, DECISIONS)?);
    let begun = held.begun.into_iter().map(|it| Began { since: now, ..it }).collect();
    begin_again(transport, &mut numbers, begun)
}

fn elements(transport: &mut dyn Transport, name: &str) -> Result<Vec<Element>, LinuxError> {
    let set = nf::Set { table: TABLE.into(), name: name.into(), ..nf::Set::default() };
    listed::elements(transport, READING, &set)
}

/// What the rules have counted that were for those without room.
fn no_room(transport: &mut dyn Transport) -> Result<u64, LinuxError> {
    let rules = rules_of(transport, READING, TABLE)?;
    let of_record = |it: &&nf::Rule| {
        it.chain.starts_with(PREFIX) && reports::counted(&it.expressions).is_none()
    };
    let mut all = 0;
    for step in rules.iter().filter(of_record).flat_map(|it| &it.expressions) {
        if let Expression::Counter { packets, .. } = step {
            all += packets;
        }
    }
    Ok(all)
}

/// The elements by which the kernel goes on remembering: of those who came, and of when they came first.
pub(crate) fn carry(
    callers: &Callers,
    record: Record,
    numbers: &mut Decisions,
) -> (Vec<Element>, Vec<Element>) {
    let keeps = u64::from(record.keeps) * 1_000;
    let (mut seen, mut first) = (Vec::new(), Vec::new());
    for caller in callers.list.iter().filter(|it| it.last < keeps) {
        let Caller { direction, decision, admitted, who, wanted, count, .. } = caller.clone();
        let decision = numbers.number(&Decided { direction, id: decision, admitted });
        let key = Key { who, wanted, decision };
        let (counted, key) = (key.counted(count), key.bytes());
        let at = |age: u64| Element { expires: Some(keeps - age), ..Element::key(key.clone()) };
        // Bytes are not asked for.
        seen.push(Element { count: Some((counted, 0)), ..at(caller.last) });
        first.extend(caller.first.filter(|it| *it < keeps).map(at));
    }
    (seen, first)
}
