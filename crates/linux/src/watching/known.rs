//! What the rules in force are, by the numbers that the kernel has for them.

use crate::LinuxError;
use crate::addresses;
use crate::ruleset::{self, TABLE, named, rules_of};
use crate::transport::{NetlinkSocket, Protocol, Transport};
use rustix::net::netdevice::index_to_name;
use rustix::net::{AddressFamily, SocketType, socket};
use std::cell::RefCell;
use std::collections::HashMap;
use std::net::IpAddr;
use tipstaff_core::plan::RuleId;
use tipstaff_core::policy::Time;
use tipstaff_core::program::{RuleProgram, Test};
use tipstaff_core::space::Relation;
use tipstaff_wire::nf_tables::{self as nf, Expression, Met, Trace};

/// They may be replaced while they are read.
const TRIES: usize = 8;

/// A rule of our table.
#[derive(PartialEq)]
pub(super) struct Line {
    /// The decision that it serves.
    pub id: Option<RuleId>,
    /// Whether it turns packets away with an answer.
    pub rejects: bool,
    /// Whether it looks up what decides.
    pub looks_up: bool,
}

/// What the rules in force are.
pub(super) struct Known {
    /// Which table it is, since another one may be made in its place: the kernel's number for it. Within a table no
    /// rule has the number of a former one.
    pub table: Option<u64>,
    lines: HashMap<u64, Line>,
    /// The rules, to ask which entry of a lookup it was.
    pub program: RuleProgram,
    own: Vec<IpAddr>,
    links: RefCell<HashMap<u32, Option<String>>>,
}

impl Known {
    /// Reads them.
    pub(super) fn read(transport: &mut dyn Transport) -> Result<Self, LinuxError> {
        for _ in 0..TRIES {
            let table = table(transport)?;
            let now = Time::from_seconds(i64::try_from(ruleset::now()).unwrap_or(i64::MAX));
            // What has ended by now decides nothing.
            let program =
                ruleset::read(transport)?.map(|it| it.program.at(now)).unwrap_or_default();
            let rules = rules_of(transport, "read the kernel's rules", TABLE)?;
            if self::table(transport)? == table {
                let lines = rules.iter().filter_map(|it| Some((it.handle?, line(it)))).collect();
                let own = own().unwrap_or_default();
                return Ok(Self { table, lines, program, own, links: RefCell::default() });
            }
        }
        Err(LinuxError::Changed)
    }

    /// What holds of these rules and of those that took their place: which of both a packet met is not known.
    pub(super) fn shared_with(self, other: &Self) -> Self {
        // If something else was made in between, so may have been other rules of ours.
        let next = matches!((self.table, other.table), (Some(was), Some(is)) if is == was + 1);
        let lines = self.lines.into_iter();
        let lines = lines.filter(|it| next && other.lines.get(&it.0) == Some(&it.1)).collect();
        let same = next && self.program == other.program;
        let program = if same { self.program } else { RuleProgram::default() };
        Self { lines, program, ..self }
    }

    /// Whether the rule that a packet met is known, if it is one of ours.
    pub(super) fn has(&self, trace: &Trace<'_>) -> bool {
        match trace.met {
            Met::Rule(handle) if trace.table == TABLE => self.lines.contains_key(&handle),
            _ => true,
        }
    }

    /// The rule of that number.
    pub(super) fn line(&self, handle: u64) -> Option<&Line> {
        self.lines.get(&handle)
    }

    /// Whether rules ask connection tracking anything: if not, nothing is to make it track.
    pub(super) fn tracks(&self) -> bool {
        let tests = self.program.chains.iter().flat_map(|it| &it.rules).flat_map(|it| &it.tests);
        tests.into_iter().any(|it| matches!(it, Test::State(_)))
    }

    /// What an address is to this machine.
    pub(super) fn relation(&self, address: IpAddr) -> Relation {
        let on_link = self.program.on_link.contains(address);
        Relation { own: self.own.contains(&address), on_link }
    }

    /// The name of a link.
    pub(super) fn link(&self, number: u32) -> Option<String> {
        let mut links = self.links.borrow_mut();
        let name = || {
            let any = socket(AddressFamily::INET, SocketType::DGRAM, None).ok()?;
            index_to_name(&any, number).ok()
        };
        links.entry(number).or_insert_with(name).clone()
    }
}

/// The kernel's number for our table; `None` if it is not there.
pub(super) fn table(transport: &mut dyn Transport) -> Result<Option<u64>, LinuxError> {
    let tables = ruleset::tables(transport)?;
    Ok(tables.iter().find(|it| it.name == TABLE).and_then(|it| it.handle))
}

fn line(rule: &nf::Rule) -> Line {
    let looks_up = |it: &Expression| matches!(it, Expression::Lookup { to_verdict: true, .. });
    Line {
        id: named(rule),
        rejects: rule.expressions.iter().any(|it| matches!(it, Expression::Reject { .. })),
        looks_up: rule.expressions.iter().any(looks_up),
    }
}

fn own() -> Result<Vec<IpAddr>, LinuxError> {
    addresses::addresses(&mut NetlinkSocket::open(Protocol::Route)?)
}
