//! Tables that are not ours, as far as they can decide about the same packets.

use super::{TABLE, WATCH_TABLES, quiet};
use crate::LinuxError;
use crate::translation::leads::leads;
use crate::transport::{Transport, dump};
use serde::{Deserialize, Serialize};
use tipstaff_wire::nf_tables::{
    self as nf, FAMILY_BRIDGE, FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6, FAMILY_NETDEV, Hook,
    message_kind,
};

/// A chain of somebody else that packets enter.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OtherChain {
    /// The name that its owner gave it.
    pub name: String,
    /// What it is for: `filter`, `nat` or `route`.
    pub kind: String,
    /// Where it hangs, in words.
    pub hook: String,
    /// Its priority; lower ones see a packet first, ours is 0.
    pub priority: i32,
    /// Whether it drops what it leaves undecided.
    pub drops: bool,
}

/// Whether a table can keep packets out that ours allow.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Denies {
    /// Nothing in it drops anything.
    Never,
    /// Something in it is not understood, and may.
    Perhaps,
    /// Something in it does.
    Can,
}

/// The packets that a table sees.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Sees {
    /// Packets of both IP versions.
    Both,
    /// Packets of IPv4 only.
    V4,
    /// Packets of IPv6 only.
    V6,
    /// Frames of one interface.
    Interface,
    /// Frames that a bridge passes on.
    Bridged,
    /// Packets of another sort.
    Others,
}

/// A table of somebody else.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OtherTable {
    /// The packets that it sees.
    pub family: Sees,
    /// The name that its owner gave it.
    pub name: String,
    /// Its chains that packets enter.
    pub chains: Vec<OtherChain>,
    /// Whether it can keep packets out that ours allow.
    pub denies: Denies,
    /// Whether it can lead packets elsewhere: to another address or port than they went to.
    #[serde(default = "not_known")]
    pub leads: bool,
    /// How many rules it has.
    pub rules: usize,
}

/// Whoever wrote a table down without saying so did not look.
fn not_known() -> bool {
    true
}

/// Whether a table for both IP versions is one of ours, by its name.
pub(crate) fn is_of_ours(table: &str) -> bool {
    [TABLE, quiet::TABLE].contains(&table) || table.starts_with(WATCH_TABLES)
}

/// Lists the tables of others that have chains which packets enter.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn others(transport: &mut dyn Transport) -> Result<Vec<OtherTable>, LinuxError> {
    let chains: Vec<nf::Chain> = dump(
        transport,
        "read the kernel's chains",
        |sequence| nf::dump(message_kind::GET_CHAIN, 0, sequence, |_| {}),
        nf::Chain::decode,
    )?;
    let mut tables: Vec<OtherTable> = Vec::new();
    let mut families: Vec<u8> = Vec::new();
    for chain in &chains {
        let Some(hook) = chain.hook else { continue };
        if chain.family == FAMILY_INET && is_of_ours(&chain.table) {
            continue;
        }
        let other = OtherChain {
            name: chain.name.clone(),
            kind: chain.kind.clone().unwrap_or_default(),
            hook: hook_words(chain.family, hook.number),
            priority: hook.priority,
            drops: chain.policy == Some(0),
        };
        let family = sees(chain.family);
        let known = (0..tables.len())
            .find(|&at| tables[at].name == chain.table && families[at] == chain.family);
        match known {
            Some(at) => tables[at].chains.push(other),
            None => {
                families.push(chain.family);
                let name = chain.table.clone();
                let (denies, leads) = (Denies::Never, false);
                tables.push(OtherTable {
                    family,
                    name,
                    chains: vec![other],
                    denies,
                    leads,
                    rules: 0,
                });
            }
        }
    }
    for table in &mut tables {
        let drops = table.chains.iter().any(|chain| chain.drops && chain.kind == "filter");
        table.denies = if drops { Denies::Can } else { Denies::Never };
    }
    if tables.is_empty() {
        return Ok(tables);
    }
    let rules: Vec<nf::Rule> = dump(
        transport,
        "read the kernel's rules",
        |sequence| nf::dump(message_kind::GET_RULE, 0, sequence, |_| {}),
        nf::Rule::decode,
    )?;
    for rule in &rules {
        // A name may occur in several families.
        for (table, family) in tables.iter_mut().zip(&families) {
            if table.name == rule.table && *family == rule.family {
                table.rules += 1;
                table.denies = table.denies.max(denies(rule));
                table.leads |= rule.expressions.iter().any(leads);
            }
        }
    }
    Ok(tables)
}

/// Expressions that never keep a packet out by themselves, besides those that we use.
const HARMLESS: [&str; 14] = [
    "bitwise",
    "connlimit",
    "ct",
    "dup",
    "fib",
    "hash",
    "last",
    "masq",
    "nat",
    "notrack",
    "numgen",
    "objref",
    "quota",
    "redir",
];

fn denies(rule: &nf::Rule) -> Denies {
    let of = |expression: &nf::Expression| match expression {
        nf::Expression::Immediate(nf::Verdict::Drop) | nf::Expression::Reject { .. } => Denies::Can,
        // To somebody's program, which may do anything with it; or by a map of verdicts.
        nf::Expression::Immediate(nf::Verdict::Goto(_) | nf::Verdict::Other(..))
        | nf::Expression::Lookup { to_verdict: true, .. } => Denies::Perhaps,
        nf::Expression::Other { name, .. } if !HARMLESS.contains(&name.as_str()) => Denies::Perhaps,
        _ => Denies::Never,
    };
    rule.expressions.iter().map(of).max().unwrap_or(Denies::Never)
}

fn sees(family: u8) -> Sees {
    match family {
        FAMILY_INET => Sees::Both,
        FAMILY_IPV4 => Sees::V4,
        FAMILY_IPV6 => Sees::V6,
        FAMILY_NETDEV => Sees::Interface,
        FAMILY_BRIDGE => Sees::Bridged,
        _ => Sees::Others,
    }
}

fn hook_words(family: u8, number: u32) -> String {
    if family == FAMILY_NETDEV {
        return "at the interface".into();
    }
    match number {
        Hook::PRE_ROUTING => "before routing".into(),
        Hook::LOCAL_IN => "inbound".into(),
        Hook::FORWARD => "forwarded".into(),
        Hook::LOCAL_OUT => "outbound".into(),
        Hook::POST_ROUTING => "after routing".into(),
        Hook::INGRESS => "at the interface".into(),
        number => format!("hook {number}"),
    }
}
