//! Reading our table back.

use super::by_chain::{at_one_moment, many, requests};
use super::decode::{self, Read, Sets};
use super::left_over;
use super::listed;
use super::marks::Marks;
use super::names::{self, TABLE, direction_of, hook_number};
use super::record::{self, Duties, Known, Leads};
use super::reopen;
use super::tally::{Count, Tally};
use crate::LinuxError;
use crate::transport::{RawDump, Transport, dump, dump_and_decode, dump_raw};
use foldhash::{HashMap, HashMapExt, HashSet, HashSetExt};
use serde::{Deserialize, Serialize};
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Taken;
use tipstaff_core::program::{Action, BaseChain, Chain, Counted, RuleProgram};
use tipstaff_core::space::{Direction, Family, RangeSet};
use tipstaff_wire::nf_tables::{
    self as nf, Element, FAMILY_INET, decode_elements, message_kind, set_flags,
};

const READING: &str = "read the kernel's rules";
pub(super) const FLAG_DORMANT: u32 = 1;

/// Our table as the kernel holds it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Snapshot {
    /// The host whose policy it is.
    pub host: String,
    /// Whether somebody has put the table to sleep: then it decides nothing.
    pub dormant: bool,
    /// The rules, as far as they are understood.
    pub program: RuleProgram,
    /// Chains that somebody else has hung into the packet path in our table.
    pub strays: Vec<String>,
    /// The numbers by which the rules know programs.
    pub marks: Marks,
    /// What they have counted, one entry for each decision and direction that decides anything.
    pub tallies: Vec<Tally>,
}

/// Reads our table; `None` if it is not there.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn read(transport: &mut dyn Transport) -> Result<Option<Snapshot>, LinuxError> {
    read_table(transport, true)
}

/// Lists the tables of the family in which ours are.
pub(crate) fn tables(transport: &mut dyn Transport) -> Result<Vec<nf::Table>, LinuxError> {
    dump(
        transport,
        READING,
        |sequence| nf::dump(message_kind::GET_TABLE, FAMILY_INET, sequence, |_| {}),
        nf::Table::decode,
    )
}

/// The posture that our table is in, as it says itself, and the host whose it is; `None` if it is in none, or not there.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn taken(transport: &mut dyn Transport) -> Result<Option<(String, Taken)>, LinuxError> {
    let tables = tables(transport)?;
    let Some(table) = ours(&tables) else { return Ok(None) };
    let (host, taken) = heading(transport, table)?;
    Ok(taken.map(|taken| (host, taken)))
}

/// The host whose rules decide, at a glance; `None` if it takes a closer look to tell whether any do: our table is not
/// there, asleep, or has no rule where packets enter it.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn glance(transport: &mut dyn Transport) -> Result<Option<String>, LinuxError> {
    let tables = tables(transport)?;
    let Some(table) = ours(&tables).filter(|it| it.flags & FLAG_DORMANT == 0) else {
        return Ok(None);
    };
    for direction in Direction::ALL {
        let rules = listed::rules_of_chain(transport, READING, TABLE, direction.as_str())?;
        if !rules.is_empty() {
            return Ok(Some(heading(transport, table)?.0));
        }
    }
    Ok(None)
}

/// What our table says of itself.
fn heading(
    transport: &mut dyn Transport,
    table: &nf::Table,
) -> Result<(String, Option<Taken>), LinuxError> {
    let set = names::about_set();
    let sets = listed::sets(transport, READING)?;
    let says = match sets.iter().any(|it| it.table == TABLE && it.name == set.name) {
        true => listed::elements(transport, READING, &set)?,
        false => Vec::new(),
    };
    Ok(says_of_itself(table, &says))
}

/// Tables that were made by versions before have it in their own user data.
fn says_of_itself(table: &nf::Table, about: &[Element]) -> (String, Option<Taken>) {
    names::read_about(about.first().map_or(&table.user_data, |it| &it.user_data))
}

fn ours(tables: &[nf::Table]) -> Option<&nf::Table> {
    tables.iter().find(|it| it.family == FAMILY_INET && it.name == TABLE)
}

/// Reads our table, and if `counted` also what it has counted: adding that up takes time.
pub(super) fn read_table(
    transport: &mut dyn Transport,
    counted: bool,
) -> Result<Option<Snapshot>, LinuxError> {
    let tables = tables(transport)?;
    let Some(table) = ours(&tables) else { return Ok(None) };
    let chains = listed::chains(transport, READING)?;
    if !many(&chains) {
        return read_by_chains(transport, table, chains, counted).map(Some);
    }
    at_one_moment(transport, READING, |transport| {
        let tables = self::tables(transport)?;
        let Some(table) = ours(&tables) else { return Ok(None) };
        let chains = listed::chains(transport, READING)?;
        read_by_chains(transport, table, chains, counted).map(Some)
    })
}

/// Reads what is in the chains.
fn read_by_chains(
    transport: &mut dyn Transport,
    table: &nf::Table,
    chains: Vec<nf::Chain>,
    counted: bool,
) -> Result<Snapshot, LinuxError> {
    let dumps = dump_sets(transport, &chains)?;
    // The elements and the first rules are decoded while the kernel writes down the others.
    let rules = dump_and_decode(
        transport,
        READING,
        &requests(&chains),
        || decode_sets(&dumps),
        |sets, body| {
            let mut rule = nf::Rule::decode(body)?;
            dumps.as_made(&mut rule);
            Ok((rule.table == TABLE).then(|| {
                if rule.chain.starts_with(record::PREFIX) {
                    return Err(rule);
                }
                Ok(FoundRule {
                    read: Box::new(decode::rule(&rule, sets, counted)),
                    reopens: (rule.chain == reopen::CHAIN)
                        .then(|| reopen::read(&rule, sets))
                        .flatten(),
                    chain: rule.chain,
                })
            }))
        },
    )?;
    let (mut ours, mut of_record) = (Vec::new(), Vec::new());
    for rule in rules.into_iter().flatten() {
        match rule {
            Ok(rule) => ours.push(rule),
            Err(rule) => of_record.push(rule),
        }
    }
    let chains = left_over::without(chains, &mut ours, |it| (&it.chain, &it.read.rule.action));
    let numbers = dumps.elements_of(record::DECISIONS)?;
    let maps = dumps.of_record()?;
    let known = Known::new(of_record, &dumps.sets, &maps, &numbers);
    let about = says_of_itself(table, &dumps.elements_of(names::ABOUT)?);
    let mut snapshot = assemble((table, about), &chains, ours, &known);
    let links = |set: &nf::Set| Family::BOTH.iter().any(|it| names::links(*it) == set.name);
    let of_links = dumps.only(links);
    if snapshot.program.record.is_some() {
        snapshot.program.admitting =
            record::begun(&numbers).into_iter().map(|it| it.rule).collect();
    }
    snapshot.program.on_link = decode_sets(&of_links)?.on_link();
    Ok(snapshot)
}

/// Our sets, and what is in those that rules do not fill.
fn dump_sets(transport: &mut dyn Transport, chains: &[nf::Chain]) -> Result<SetDumps, LinuxError> {
    let sets = listed::sets(transport, READING)?;
    let mut dumps = Vec::with_capacity(sets.len());
    // What rules remember of senders is no part of what they mean.
    let mut sets: Vec<nf::Set> = sets.into_iter().filter(|set| set.table == TABLE).collect();
    for set in sets.iter().filter(|set| set.flags & set_flags::DYNAMIC == 0) {
        let elements =
            dump_raw(transport, READING, |sequence| listed::ask_for_elements(set, sequence))?;
        dumps.push((set.clone(), elements));
    }
    let mut twins = left_over::twins(&sets);
    if !twins.is_empty() {
        let maps: Vec<(&str, Vec<Element>)> = dumps
            .iter()
            .filter(|it| it.0.verdicts)
            .map(|(set, dump)| Ok((set.name.as_str(), elements(dump)?)))
            .collect::<Result<_, LinuxError>>()?;
        let used = left_over::used(transport, chains, &maps)?;
        let unused = |name: &String| twins.contains(names::plain(name)) && !used.contains(name);
        let unused: HashSet<String> =
            sets.iter().map(|it| it.name.clone()).filter(unused).collect();
        sets.retain(|it| !unused.contains(&it.name));
        dumps.retain(|it| !unused.contains(&it.0.name));
        twins = left_over::twins(&sets);
    }
    for set in sets.iter_mut().chain(dumps.iter_mut().map(|it| &mut it.0)) {
        call_as_made(&twins, &mut set.name);
    }
    Ok(SetDumps { sets, dumps, twins })
}

/// Has a set be called as it was when it was first made.
fn call_as_made(twins: &HashSet<String>, name: &mut String) {
    if name.ends_with(names::OTHER) && !twins.contains(names::plain(name)) {
        name.truncate(names::plain(name).len());
    }
}

/// Our sets, and the elements of some as the kernel sends them.
struct SetDumps {
    sets: Vec<nf::Set>,
    dumps: Vec<(nf::Set, RawDump)>,
    /// The names of sets that are there twice: one takes the place of the other, and is not yet alone.
    twins: HashSet<String>,
}

impl SetDumps {
    /// Has the sets that a rule looks into be called as they were when they were first made.
    fn as_made(&self, rule: &mut nf::Rule) {
        let sets = rule.expressions.iter_mut().filter_map(|it| names::of_set!(it, set));
        sets.for_each(|it| call_as_made(&self.twins, it));
    }

    /// The elements of a set; none if it is not there.
    fn elements_of(&self, name: &str) -> Result<Vec<Element>, LinuxError> {
        let found = self.dumps.iter().find(|it| it.0.name == name);
        found.map_or(Ok(Vec::new()), |(_, dump)| elements(dump))
    }

    /// What is in the record's own sets.
    fn of_record(&self) -> Result<HashMap<String, Vec<Element>>, LinuxError> {
        let ours = self.dumps.iter().filter(|it| it.0.name.starts_with(record::PREFIX));
        ours.map(|(set, dump)| Ok((set.name.clone(), elements(dump)?))).collect()
    }

    /// Only those sets.
    fn only(self, which: impl Fn(&nf::Set) -> bool) -> Self {
        let dumps = self.dumps.into_iter().filter(|it| which(&it.0)).collect();
        Self { sets: Vec::new(), dumps, twins: self.twins }
    }
}

fn elements(dump: &RawDump) -> Result<Vec<Element>, LinuxError> {
    let chunks = dump.decode(|body| decode_elements(body).map(|it| it.1))?;
    Ok(chunks.into_iter().flatten().collect())
}

fn decode_sets(dumps: &SetDumps) -> Result<Sets, LinuxError> {
    let mut found = Sets::default();
    for set in dumps.sets.iter().filter(|set| set.flags & set_flags::DYNAMIC != 0) {
        found.insert(&set.name, decode::Found::Senders);
    }
    for (set, dump) in &dumps.dumps {
        let elements = elements(dump)?;
        if set.name == record::DECISIONS {
            found.decisions = record::decisions(&elements);
            continue;
        }
        let intervals = set.flags & set_flags::INTERVAL != 0;
        found.insert(&set.name, decode::found(elements, intervals, set.verdicts || set.numbers));
    }
    Ok(found)
}

/// A rule of our table.
struct FoundRule {
    chain: String,
    read: Box<Read>,
    /// For a rule by which old connections give way to new ones: for which.
    reopens: Option<(Family, RangeSet<u16>)>,
}

fn assemble(
    (table, (host, taken)): (&nf::Table, (String, Option<Taken>)),
    chains: &[nf::Chain],
    mut rules: Vec<FoundRule>,
    known: &Known,
) -> Snapshot {
    let done = done(&mut rules, known);
    let Duties { record, logging, .. } = *known.duties();
    let mut program = RuleProgram {
        taken,
        record: record.filter(|_| done),
        logging: logging.filter(|_| done),
        ..RuleProgram::default()
    };
    let led: HashSet<String> = rules
        .iter()
        .flat_map(|it| &it.read.leads)
        .map(|it| &it.0)
        .chain(known.shared())
        .cloned()
        .collect();
    let mut tallies = Tallies::default();
    let (mut marks, mut strays) = (Marks::default(), Vec::new());
    let shared = shared(&rules);
    let mut of_chain = by_chain(rules);
    for chain in chains.iter().filter(|it| it.table == TABLE && it.family == FAMILY_INET) {
        if led.contains(&chain.name) {
            continue;
        }
        let mut rules = of_chain.remove(&chain.name).unwrap_or_default();
        tell_rewired(&mut rules, &shared);
        let reopens: Vec<_> = rules.iter().map(|it| it.reopens.clone()).collect();
        if let Some(ports) = reopen::ports(chain, &reopens) {
            program.reopened = ports;
            continue;
        }
        let base = chain.hook.and_then(|hook| {
            let at_hook = |it: &Direction| hook_number(*it) == hook.number;
            let direction = Direction::ALL.into_iter().find(at_hook)?;
            Some((direction, BaseChain { passes: chain.policy == Some(1) }))
        });
        let is_ours = base.is_some_and(|(direction, _)| direction.as_str() == chain.name);
        if chain.hook.is_some() && !is_ours {
            strays.push(chain.name.clone());
        }
        let mut found = Chain {
            name: chain.name.clone(),
            direction: base.map(|it| it.0).or_else(|| direction_of(&chain.name)),
            base: base.map(|it| it.1),
            rules: Vec::new(),
        };
        let mut counts = Vec::new();
        for of_kernel in rules {
            let Read { rule, counts: counted, crowded, marks: named, .. } = *of_kernel.read;
            if named.mask != 0 {
                marks.mask = named.mask;
                marks.lists.extend(named.lists);
            }
            // What it has counted for its decision, or for the decisions of a lookup.
            counts.push((counted, crowded));
            found.rules.push(rule);
        }
        tallies.add(&found, counts);
        program.chains.push(found);
    }
    program.sort();
    Snapshot {
        host,
        dormant: table.flags & FLAG_DORMANT != 0,
        tallies: tallies.list,
        program,
        strays,
        marks,
    }
}

/// The rules of each chain. The kernel lists them one chain after the other.
fn by_chain(rules: Vec<FoundRule>) -> HashMap<String, Vec<FoundRule>> {
    let mut of_chain: HashMap<String, Vec<FoundRule>> = HashMap::new();
    let mut rules = rules.into_iter().peekable();
    while let Some(first) = rules.next() {
        let chain = first.chain.clone();
        let list = of_chain.entry(chain.clone()).or_default();
        list.push(first);
        while let Some(rule) = rules.next_if(|it| it.chain == chain) {
            list.push(rule);
        }
    }
    of_chain
}

/// Whether it is remembered and reported what is to be: if every rule that decides something leads there, and all
/// there is as we make it. A rule that leads to something else does not mean what it says.
fn done(rules: &mut [FoundRule], known: &Known) -> bool {
    let mut all = known.is_intact();
    let duties = known.duties();
    for rule in rules {
        let FoundRule { chain, read, .. } = rule;
        let id = read.rule.id.as_ref();
        let direction = direction_of(chain);
        let holds = |(chain, leads): &(String, Leads)| {
            direction.is_some_and(|it| known.holds(chain, leads, it, id))
        };
        if !read.leads.iter().all(holds) {
            read.rule.action = Action::Opaque("record".into());
            all = false;
        }
        // What is not one of our lists decides nothing of ours.
        let (turned_away, admitted) =
            if direction.is_some() { read.forgets } else { (false, false) };
        all &= !(turned_away && duties.concern(false) || admitted && duties.concern(true));
    }
    all
}

/// The sets in which several rules keep limiters. None of ours do.
fn shared(rules: &[FoundRule]) -> HashSet<String> {
    let mut seen = HashSet::new();
    let keeping = rules.iter().filter_map(|it| it.read.keeps_in.as_ref());
    keeping.filter(|set| !seen.insert(*set)).cloned().collect()
}

/// A rule of a rate that looks into a set of another one does not mean what it says: its senders share that
/// one's limiters, or count as known where they are not.
fn tell_rewired(rules: &mut [FoundRule], shared: &HashSet<String>) {
    for at in 0..rules.len() {
        let (before, rest) = rules.split_at_mut(at);
        let Some(rule) = rest.first_mut() else { return };
        let read = &mut rule.read;
        let own = |set: &String| {
            before
                .iter()
                .any(|it| it.read.rule.id == read.rule.id && it.read.keeps_in.as_ref() == Some(set))
        };
        let rewired = read.keeps_in.as_ref().is_some_and(|set| shared.contains(set))
            || read.not_in.as_ref().is_some_and(|set| !own(set));
        if rewired {
            read.rule.action = Action::Opaque("set of another rule".into());
        }
    }
}

/// What a rule has counted for the decisions that it serves, and what of crowded senders.
type Counts = (Vec<(RuleId, Count)>, Option<(RuleId, Count)>);

/// Adds up what serves one decision.
#[derive(Default)]
struct Tallies {
    list: Vec<Tally>,
    at: HashMap<(Direction, RuleId), usize>,
}

impl Tallies {
    /// Adds what the rules of one chain have counted, for each rule.
    fn add(&mut self, chain: &Chain, counts: Vec<Counts>) {
        let Some(direction) = chain.direction else { return };
        for (first, (counted, crowded)) in chain.counted().zip(counts) {
            // Behind the counter of all who came there crowded is one of those who were taken.
            let counts = if first == Counted::Crowded { Counted::Taken } else { first };
            for (id, count) in counted {
                self.add_one(direction, id, counts, count);
            }
            if let Some((id, count)) = crowded {
                self.add_one(direction, id, Counted::Crowded, count);
            }
        }
    }

    fn add_one(&mut self, direction: Direction, id: RuleId, counted: Counted, count: Count) {
        let at = *self.at.entry((direction, id)).or_insert_with_key(|(direction, id)| {
            let (id, taken) = (id.clone(), Count::default());
            let (direction, excess, crowded) = (*direction, None, None);
            self.list.push(Tally { direction, id, taken, excess, crowded });
            self.list.len() - 1
        });
        let tally = &mut self.list[at];
        match counted {
            Counted::Crowded => tally.crowded.get_or_insert_default().add(count),
            Counted::Excess => tally.excess.get_or_insert_default().add(count),
            Counted::Taken => tally.taken.add(count),
        }
    }
}
