//! A rule program to one batch of netlink messages.

use super::super::ledger::Ledger;
use super::super::marks::{self, Meant};
use super::super::names::{TABLE, about, about_set, counters, hook_number, user_data};
use super::super::record::Decisions;
use super::super::reopen;
use super::carried::{Before, Carried};
use super::encoder::Encoder;
use super::expressions::action;
use super::parts::Parts;
use super::sheet::Sheet;
use crate::LinuxError;
use std::collections::{HashMap, HashSet};
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{Action, Chain, Counted, ProgramRule, RuleProgram, Test};
use tipstaff_core::space::{Family, RangeSet};
use tipstaff_wire::nf_tables::{self as nf, Batch, FAMILY_INET, Hook};

/// Where our chains stand among those of others at the same hook: in the middle.
const PRIORITY: i32 = 0;
const FILTER: &str = "filter";
/// Not every kernel has been built with these.
const BY_MARK: &str = "tests of sockets in the packet filter (CONFIG_NFT_SOCKET)";
const BY_ROUTE: &str = "tests of the routing table in the packet filter (CONFIG_NFT_FIB_INET)";
const TO_LISTENER: &str = "leading packets to sockets in the packet filter (CONFIG_NFT_TPROXY), and \
                           tests of sockets (CONFIG_NFT_SOCKET)";

/// The batch that puts `program` in place of whatever our table holds, its messages numbered
/// from `sequence` on, and the ledger of which message serves which decision.
///
/// The table is made (in case it is not there), deleted, and made anew: since the kernel applies
/// a batch at once or not at all, there is no moment without rules.
///
/// # Errors
/// [`LinuxError::RuleRefused`] for a rule that the kernel cannot be told yet.
pub fn encode(
    program: &RuleProgram,
    host: &str,
    sequence: u32,
) -> Result<(Batch, Ledger), LinuxError> {
    let marks = marks::alone(program)?;
    encode_into(Batch::begin(sequence), (host, program, &marks), &Before::default())
}

/// Like [`encode`], into a batch that has been begun.
pub(crate) fn encode_into(
    batch: Batch,
    meant: Meant<'_>,
    before: &Before<'_>,
) -> Result<(Batch, Ledger), LinuxError> {
    let mut batch = batch;
    let table = nf::Table { name: TABLE.into(), ..nf::Table::default() };
    batch.new_table(&table);
    batch.delete_table(TABLE);
    batch.new_table(&table);
    let encoder = write(Sheet::Batch(batch), meant, before)?;
    match encoder.batch {
        Sheet::Batch(batch) => Ok((batch, encoder.ledger)),
        Sheet::Parts(_) => unreachable!("it was begun as a batch"),
    }
}

/// What `program` is in the kernel, part by part, where nothing was counted and nobody came yet. The decisions that
/// are `known` keep their numbers.
///
/// # Errors
/// As for [`encode`].
pub(crate) fn parts(meant: Meant<'_>, known: (&Decisions, u64)) -> Result<Parts, LinuxError> {
    let before = Before { known: Some(known.0), now: known.1, ..Before::default() };
    let encoder = write(Sheet::Parts(Box::default()), meant, &before)?;
    match encoder.batch {
        Sheet::Parts(parts) => Ok(*parts),
        Sheet::Batch(_) => unreachable!("it was begun as parts"),
    }
}

fn write<'a>(
    batch: Sheet,
    (host, program, marks): Meant<'a>,
    before: &Before<'_>,
) -> Result<Encoder<'a>, LinuxError> {
    let mut encoder = Encoder {
        carried: Carried::of(before.tallies),
        batch,
        chain: String::new(),
        ledger: Ledger::default(),
        sets: 0,
        expressions: Vec::new(),
        told_apart: HashMap::new(),
        known: HashMap::new(),
        roles: HashMap::new(),
        taken: HashSet::new(),
        links: HashMap::new(),
        marks,
        remembering: None,
    };
    encoder.batch.new_filled(&about_set(), &[about(host, program.taken.as_ref())]);
    for chain in &program.chains {
        encoder.ledger.preamble = encoder.chain(chain);
    }
    encoder.begin_record(program, before);
    encoder.links(program);
    encoder.reopened(&program.reopened)?;
    for chain in &program.chains {
        encoder.chain.clone_from(&chain.name);
        for (rule, counted) in chain.rules.iter().zip(chain.counted()) {
            encoder.rule(chain, rule, counted)?;
        }
    }
    encoder.end_record(before.callers);
    Ok(encoder)
}

impl Encoder<'_> {
    fn chain(&mut self, chain: &Chain) -> u32 {
        let base = chain.base;
        self.batch.new_chain(&nf::Chain {
            table: TABLE.into(),
            name: chain.name.clone(),
            kind: base.map(|_| FILTER.into()),
            hook: base
                .and(chain.direction)
                .map(|direction| Hook { number: hook_number(direction), priority: PRIORITY }),
            policy: base.map(|base| u32::from(base.passes)),
            family: FAMILY_INET,
        })
    }

    /// Has what remains of old connections to these ports give way to the listener.
    fn reopened(&mut self, ports: &RangeSet<u16>) -> Result<(), LinuxError> {
        if ports.is_empty() {
            return Ok(());
        }
        self.ledger.preamble = self.batch.new_chain(&reopen::chain());
        for family in Family::BOTH {
            let rule = reopen::first_steps(family, ports);
            let mut expressions = Vec::new();
            for test in &rule.tests {
                self.test(test, &rule, &mut expressions)?;
            }
            expressions.extend(reopen::last_steps(family));
            let rule = nf::Rule {
                table: TABLE.into(),
                chain: reopen::CHAIN.into(),
                user_data: user_data(""),
                expressions,
                ..nf::Rule::default()
            };
            let message = self.batch.new_rule(&rule, None);
            self.ledger.note(message, None);
            self.ledger.lacking.insert(message, TO_LISTENER);
        }
        Ok(())
    }

    fn rule(
        &mut self,
        chain: &Chain,
        rule: &ProgramRule,
        counted: Counted,
    ) -> Result<(), LinuxError> {
        let mut expressions = std::mem::take(&mut self.expressions);
        for test in &rule.tests {
            self.test(test, rule, &mut expressions)?;
        }
        let name = rule.id.as_ref().map(RuleId::to_string).unwrap_or_default();
        let done = self.limited(rule, &mut expressions);
        match &rule.action {
            Action::Choose(lookup) => self.lookup(chain.direction, lookup, &mut expressions),
            other if !done => action(other, &name, &mut expressions),
            _ => {}
        }
        self.remember(chain.direction, rule.id.as_ref(), &mut expressions);
        let counter = counters(&mut expressions).next();
        let mut counts = None;
        if let (Some((packets, bytes)), Some(id)) = (counter, &rule.id)
            && let Some(direction) = chain.direction
        {
            counts = Some((direction, id, counted));
            if let Some(count) = self.carried.take(direction, id, counted) {
                (*packets, *bytes) = (count.packets, count.bytes);
            }
        }
        let rule_message = nf::Rule {
            table: TABLE.into(),
            chain: chain.name.clone(),
            expressions,
            user_data: user_data(&name),
            ..nf::Rule::default()
        };
        let message = self.batch.new_rule(&rule_message, counts);
        self.ledger.note(message, rule.id.as_ref());
        if rule.tests.iter().any(|it| matches!(it, Test::Program(_) | Test::User(_))) {
            self.ledger.lacking.insert(message, BY_MARK);
        }
        if rule.tests.iter().any(|it| matches!(it, Test::Own(..))) {
            self.ledger.lacking.insert(message, BY_ROUTE);
        }
        self.expressions = rule_message.expressions;
        self.expressions.clear();
        Ok(())
    }
}
