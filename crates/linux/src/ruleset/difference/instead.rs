//! Other rules instead of those that are in force, whatever both are.
//!
//! All rules go and others come, but what packets on their way look into and are led to stays beside the new until none
//! is on its way to it (the parent module says why).

use super::super::encode::{Parts, SetPart, parts};
use super::super::ledger::{Ledger, send};
use super::super::marks::Meant;
use super::super::names::{ABOUT, TABLE};
use super::super::now;
use super::super::read::Snapshot;
use super::super::read_back::as_meant;
use super::super::record::{self, CALLERS, CROWDED, Callers, DECISIONS, Decisions, FIRST};
use super::super::tally::Tally;
use super::counts::Counts;
use super::variants::{Names, all};
use super::{is_understood, numbers, take_out};
use crate::LinuxError;
use crate::transport::Transport;
use std::collections::HashSet;
use tipstaff_wire::nf_tables::{Batch, Chain, Set, set_flags};

/// What came of it.
pub(in super::super) enum Instead {
    /// The rules are in force, and read back.
    Done(Box<Snapshot>),
    /// It cannot be done like this; nothing has been done.
    NotDone,
    /// The rules may be in force, but what was there before is not all gone.
    Halfway,
}

/// Puts what is `meant` into the place of what is `held`, provided that nobody has changed any rules since they had that
/// generation, if one is given. Decisions go on counting from what is `carried` over.
///
/// # Errors
/// [`LinuxError::Changed`] if somebody has, and [`LinuxError::Unknown`] where nobody knows what came of it.
pub(in super::super) fn instead(
    transport: &mut dyn Transport,
    held: &Snapshot,
    meant: Meant<'_>,
    generation: Option<u32>,
    carried: &[Tally],
) -> Result<Instead, LinuxError> {
    if held.dormant || !held.strays.is_empty() || !is_understood(&held.program) {
        return Ok(Instead::NotDone);
    }
    let (_, program, marks) = meant;
    // Where something cannot be read, all of it is loaded at once, or why not is said then.
    let Ok(memory) = Memory::read(transport, held, meant) else { return Ok(Instead::NotDone) };
    let known = memory.known.clone().unwrap_or_default();
    let Ok(new) = parts(meant, (&known, now())) else { return Ok(Instead::NotDone) };
    let Ok(there) = all(transport) else { return Ok(Instead::NotDone) };
    let Some(exchange) = Exchange::of(&there, &new, &memory) else { return Ok(Instead::NotDone) };
    let mut batch = Batch::begin_at(transport.next_sequence(), generation);
    exchange.write(&mut batch, Counts::of(carried));
    match send(transport, "load rules", batch, &Ledger::default()) {
        Ok(()) => {}
        Err(error @ (LinuxError::Changed | LinuxError::Unknown { .. })) => return Err(error),
        // Loading at once says which rule it is.
        Err(_) => return Ok(Instead::NotDone),
    }
    let mut batch = Batch::begin(transport.next_sequence());
    exchange.clean_up(&mut batch);
    if !take_out(transport, batch) {
        return Ok(Instead::Halfway);
    }
    let Ok(snapshot) = as_meant(transport, program, marks) else { return Ok(Instead::Halfway) };
    if let Some(callers) = memory.callers {
        // The rules are in force, whatever becomes of this.
        let _ = record::remind(transport, &callers);
    }
    Ok(Instead::Done(Box::new(snapshot)))
}

/// What the kernel remembers of who came, which is to outlast the change.
struct Memory {
    /// The numbers of decisions; `None` if all are to be numbered anew.
    known: Option<Decisions>,
    /// Whether the sets of those who came stay as they are.
    stays: bool,
    /// What has to be told again.
    callers: Option<Callers>,
}

impl Memory {
    fn read(
        transport: &mut dyn Transport,
        held: &Snapshot,
        (_, program, _): Meant<'_>,
    ) -> Result<Self, LinuxError> {
        let known = numbers(transport, held, program)?;
        let stays = known.is_some() && held.program.record == program.record;
        if program.record.is_none() || held.program.record.is_none() {
            return Ok(Self { known, stays, callers: None });
        }
        let callers = record::read(transport)?;
        // Evidence about rules has to know whether any found no room: who did not is counted by rules that go.
        let was_full = callers.as_ref().is_some_and(|it| it.no_room > 0);
        let known = known.map(|it| if was_full { it.unbegun() } else { it });
        Ok(Self { known, stays, callers: callers.filter(|_| !stays) })
    }

    /// Whether a set is one of those that stay.
    fn keeps(&self, name: &str) -> bool {
        self.stays && [CALLERS, FIRST, CROWDED].contains(&name)
    }
}

/// Whether no rule looks into a set to decide anything: it may go with the rules.
fn decides_nothing(set: &Set) -> bool {
    let names = [ABOUT, DECISIONS, CALLERS, FIRST, CROWDED];
    names.contains(&&*set.name) || record::is_of_reports(&set.name)
}

/// What goes and what comes.
struct Exchange<'e> {
    new: &'e Parts,
    /// Of the old chains, those that packets enter and that nothing takes the place of, and others to which nothing leads.
    closed: Vec<&'e Chain>,
    idle: Vec<&'e Chain>,
    /// Of the new ones those that are not there, and those in which what is left undecided fares otherwise.
    opened: Vec<&'e Chain>,
    ended: Vec<&'e Chain>,
    /// Of the old sets those that go at once, and those that go when no packet is on its way to them.
    at_once: Vec<&'e Set>,
    later: Vec<&'e Set>,
    /// The new ones.
    filled: Vec<&'e SetPart>,
    names: Names,
}

impl<'e> Exchange<'e> {
    /// Works it out; `None` where the names of the old do not leave room for the new.
    fn of(
        (chains, sets): &'e (Vec<Chain>, Vec<Set>),
        new: &'e Parts,
        memory: &Memory,
    ) -> Option<Self> {
        let there: HashSet<&str> = sets.iter().map(|it| it.name.as_str()).collect();
        let alone = |name: &str| memory.keeps(name) || is_alone(new, name);
        let names = Names::beside(&there, new.sets.keys(), alone)?;
        let filled = new.sets.values().filter(|it| !memory.keeps(&it.set.name)).collect();
        let goes = sets.iter().filter(|it| !memory.keeps(&it.name));
        let (at_once, later) = goes.partition(|it| decides_nothing(it));
        let (mut closed, mut idle, mut ended) = (Vec::new(), Vec::new(), Vec::new());
        for chain in chains {
            match new.chains.get(&chain.name) {
                None if chain.hook.is_some() => closed.push(chain),
                None => idle.push(chain),
                Some(part) => {
                    let Chain { hook, policy, .. } = &part.chain;
                    if *hook != chain.hook {
                        return None;
                    }
                    if *policy != chain.policy {
                        ended.push(&part.chain);
                    }
                }
            }
        }
        let has: HashSet<&str> = chains.iter().map(|it| it.name.as_str()).collect();
        let opened = new.chains.values().map(|it| &it.chain);
        let opened = opened.filter(|it| !has.contains(it.name.as_str())).collect();
        Some(Self { new, closed, idle, opened, ended, at_once, later, filled, names })
    }

    /// The batch by which the new rules come into force.
    fn write(&self, batch: &mut Batch, mut counts: Counts) {
        batch.delete_rules(TABLE);
        for chain in &self.closed {
            batch.delete_chain(chain);
        }
        for set in &self.at_once {
            batch.delete_set(set);
        }
        for chain in &self.opened {
            batch.new_chain(chain);
        }
        for chain in &self.ended {
            batch.new_chain(&Chain { hook: None, kind: None, ..(*chain).clone() });
        }
        // Numbers of sets are those of one batch; all that comes names them by their names.
        for (id, part) in (1..).zip(&self.filled) {
            let set = Set { id, ..self.names.set(part) };
            batch.new_set(&set);
            match part.counts {
                None => batch.new_elements(&set, &part.elements),
                Some(direction) => {
                    let carried = |it| counts.carried_element(direction, it);
                    let elements: Vec<_> = part.elements.iter().map(carried).collect();
                    batch.new_elements(&set, &elements)
                }
            };
        }
        for rule in self.new.chains.values().flat_map(|it| &it.rules) {
            batch.new_rule(&self.names.rule(counts.carried(rule)));
        }
    }

    /// The batch that takes out what no rule looks into or leads to any more.
    fn clean_up(&self, batch: &mut Batch) {
        let leads = |it: &&&Set| it.verdicts && it.flags & set_flags::CONSTANT == 0;
        for set in self.later.iter().filter(leads) {
            batch.empty_set(set);
        }
        for set in &self.later {
            batch.delete_set(set);
        }
        for chain in &self.idle {
            batch.delete_chain(chain);
        }
    }
}

/// Whether a new set takes the place of an old one at once.
fn is_alone(new: &Parts, name: &str) -> bool {
    new.sets.get(name).is_some_and(|it| decides_nothing(&it.set))
}
