//! Reading our table back.

use super::TABLE;
use super::decode::{self, Ranges, text_of};
use super::encode::hook_number;
use crate::LinuxError;
use crate::transport::{Transport, dump};
use std::collections::HashMap;
use tipstaff_core::plan::RuleId;
use tipstaff_core::program::{Action, BaseChain, Chain, RuleProgram};
use tipstaff_core::space::Direction;
use tipstaff_wire::nf_tables::{
    self as nf, Element, FAMILY_INET, decode_elements, message_kind, set_flags,
};

const READING: &str = "read the kernel's rules";
const FLAG_DORMANT: u32 = 1;

/// Packets and bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Count {
    /// Packets.
    pub packets: u64,
    /// Bytes, IP headers included.
    pub bytes: u64,
}

impl Count {
    fn add(&mut self, other: Self) {
        self.packets += other.packets;
        self.bytes += other.bytes;
    }
}

/// What one decision has done so far.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tally {
    /// The direction of its packets.
    pub direction: Direction,
    /// The decision.
    pub id: RuleId,
    /// The packets it took; for a rate, those within it.
    pub taken: Count,
    /// For a rate, the packets beyond it.
    pub excess: Option<Count>,
}

/// Our table as the kernel holds it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Snapshot {
    /// The host whose policy it is.
    pub host: String,
    /// Whether somebody has put the table to sleep: then it decides nothing.
    pub dormant: bool,
    /// The rules.
    pub program: RuleProgram,
    /// What they have counted, one entry for each decision and direction, in order.
    pub tallies: Vec<Tally>,
}

/// Reads our table; `None` if it is not there.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn read(transport: &mut dyn Transport) -> Result<Option<Snapshot>, LinuxError> {
    let tables: Vec<nf::Table> = dump(
        transport,
        READING,
        |sequence| nf::dump(message_kind::GET_TABLE, FAMILY_INET, sequence, |_| {}),
        nf::Table::decode,
    )?;
    let ours = tables.iter().find(|it| it.family == FAMILY_INET && it.name == TABLE);
    let Some(table) = ours else { return Ok(None) };
    let chains: Vec<nf::Chain> = dump(
        transport,
        READING,
        |sequence| nf::dump(message_kind::GET_CHAIN, FAMILY_INET, sequence, |_| {}),
        nf::Chain::decode,
    )?;
    let sets = read_sets(transport)?;
    let rules: Vec<nf::Rule> = dump(
        transport,
        READING,
        |sequence| {
            let only_ours = nf::Rule { table: TABLE.into(), ..nf::Rule::default() };
            nf::dump(message_kind::GET_RULE, FAMILY_INET, sequence, |out| {
                only_ours.write_table(out);
            })
        },
        nf::Rule::decode,
    )?;
    Ok(Some(assemble(table, &chains, &sets, &rules)))
}

fn read_sets(transport: &mut dyn Transport) -> Result<HashMap<String, Ranges>, LinuxError> {
    let sets: Vec<nf::Set> = dump(
        transport,
        READING,
        |sequence| nf::dump(message_kind::GET_SET, FAMILY_INET, sequence, |_| {}),
        nf::Set::decode,
    )?;
    let mut ranges = HashMap::new();
    // What rules remember of senders is no part of what they mean.
    let fixed = |set: &&nf::Set| set.table == TABLE && set.flags & set_flags::DYNAMIC == 0;
    for set in sets.iter().filter(fixed) {
        let chunks = dump(
            transport,
            READING,
            |sequence| {
                nf::dump(message_kind::GET_ELEMENTS, FAMILY_INET, sequence, |out| {
                    set.write_request(out);
                })
            },
            |body| decode_elements(body).map(|it| it.1),
        )?;
        let mut elements: Vec<Element> = chunks.into_iter().flatten().collect();
        let intervals = set.flags & set_flags::INTERVAL != 0;
        ranges.insert(set.name.clone(), decode::ranges(&mut elements, intervals));
    }
    Ok(ranges)
}

fn assemble(
    table: &nf::Table,
    chains: &[nf::Chain],
    sets: &HashMap<String, Ranges>,
    rules: &[nf::Rule],
) -> Snapshot {
    let mut program = RuleProgram::default();
    let mut counts = Vec::new();
    for chain in chains.iter().filter(|it| it.table == TABLE && it.family == FAMILY_INET) {
        let base = chain.hook.and_then(|hook| {
            let direction =
                Direction::ALL.into_iter().find(|&it| hook_number(it) == hook.number)?;
            Some(BaseChain { direction, passes: chain.policy == Some(1) })
        });
        let mut found = Chain { name: chain.name.clone(), base, rules: Vec::new() };
        let of_chain = |rule: &&nf::Rule| rule.table == TABLE && rule.chain == chain.name;
        for rule in rules.iter().filter(of_chain) {
            let (rule, count) = decode::rule(rule, sets);
            counts.push((found.name.clone(), rule.id.clone(), rule.action.clone(), count));
            found.rules.push(rule);
        }
        program.chains.push(found);
    }
    Snapshot {
        host: text_of(&table.user_data).unwrap_or_default().to_owned(),
        dormant: table.flags & FLAG_DORMANT != 0,
        tallies: tally(&program, &counts),
        program,
    }
}

type Counted = (String, RuleId, Action, Option<Count>);

/// Adds up the counters of the rules that serve one decision. The two rules of a limiter count
/// for the direction from which it is jumped to.
fn tally(program: &RuleProgram, counts: &[Counted]) -> Vec<Tally> {
    let mut tallies: Vec<Tally> = Vec::new();
    let mut at: HashMap<(Direction, &RuleId), usize> = HashMap::new();
    let mut limited: HashMap<&RuleId, Direction> = HashMap::new();
    for (chain, direction) in program.chains.iter().filter_map(|it| Some((it, it.base?.direction)))
    {
        for rule in &chain.rules {
            let jumps = matches!(rule.action, Action::Jump(_));
            if jumps {
                limited.insert(&rule.id, direction);
            }
            at.entry((direction, &rule.id)).or_insert_with(|| {
                let excess = jumps.then(Count::default);
                let (id, taken) = (rule.id.clone(), Count::default());
                tallies.push(Tally { direction, id, taken, excess });
                tallies.len() - 1
            });
        }
    }
    let directions: HashMap<&str, Direction> = program
        .chains
        .iter()
        .filter_map(|chain| Some((chain.name.as_str(), chain.base?.direction)))
        .collect();
    for (chain, id, action, count) in counts {
        let direction = directions.get(chain.as_str()).or_else(|| limited.get(id));
        let entry = direction.and_then(|direction| at.get(&(*direction, id)));
        let (Some(entry), Some(count)) = (entry, count) else { continue };
        let tally = &mut tallies[*entry];
        match (&mut tally.excess, action) {
            (Some(excess), Action::Deny) => excess.add(*count),
            _ => tally.taken.add(*count),
        }
    }
    tallies
}
