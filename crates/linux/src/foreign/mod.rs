//! What others have of rules that let packets pass or keep them out, as far as a policy can say it.

mod asked;
mod compat;
mod field;
mod older;
mod row;
mod sets;
mod state;

pub(crate) use older::older;

use crate::LinuxError;
use crate::addresses::numbers;
use crate::ruleset::{Denies, OtherTable, Sees, others, set_of};
use crate::translation::held::{Others, TableName};
use crate::transport::Transport;
use row::Reader;
use sets::single;
use std::collections::BTreeMap;
use tipstaff_core::adopt::{Entrance, Held, Then};
use tipstaff_core::space::{AddressSet, Direction, Family, RangeSet};
use tipstaff_wire::nf_tables::{
    Chain, FAMILY_BRIDGE, FAMILY_INET, FAMILY_IPV4, FAMILY_IPV6, FAMILY_NETDEV, Hook,
};

/// What others have.
#[derive(Clone, Debug, Default)]
pub struct Foreign {
    /// What lets packets pass or keeps them out where a policy does too.
    pub held: Held,
    /// The tables that this is in, and others that lead packets elsewhere, in the order in which they are kept.
    pub tables: Vec<Table>,
    /// What keeps packets out, or may, where a policy does not.
    pub beside: Vec<Beside>,
    /// Rules that cannot be read, in words.
    pub unread: Vec<String>,
}

/// A table of somebody's.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Table {
    /// Its name.
    pub name: String,
    /// The packets that it sees.
    pub sees: Sees,
    /// Their number for that (`nfgen_family`).
    pub family: u8,
    /// How many rules it has.
    pub rules: usize,
    /// Whether it lets packets pass or keeps them out where a policy does.
    pub decides: bool,
    /// Whether it leads packets elsewhere, which no policy does.
    pub leads: bool,
}

/// Something that keeps packets out where no policy does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Beside {
    /// The chain.
    pub chain: String,
    /// Where it hangs.
    pub hook: String,
    /// Whether that is sure.
    pub sure: bool,
}

/// The direction that a chain decides about.
fn direction(chain: &Chain) -> Option<Direction> {
    let kind = chain.kind.as_deref();
    match chain.hook?.number {
        Hook::LOCAL_IN if kind == Some("filter") => Some(Direction::Inbound),
        // Some hang there to have routes looked up again.
        Hook::LOCAL_OUT if kind != Some("nat") => Some(Direction::Outbound),
        Hook::FORWARD if kind == Some("filter") => Some(Direction::Forwarded),
        _ => None,
    }
}

/// Reads what others have, of the namespace of two transports: for packet filters, and for links, which some know by
/// their numbers.
///
/// # Errors
/// [`LinuxError`] if the kernel does not let us read.
pub fn foreign(
    transport: &mut dyn Transport,
    routes: &mut dyn Transport,
) -> Result<Foreign, LinuxError> {
    let links = numbers(routes)?;
    let tables = others(transport)?;
    let mut kept = Others::read(transport, |chain| chain.hook.is_some())?;
    let chains = kept.chains.clone();
    let mut at: Vec<(i32, Entrance)> = Vec::new();
    let mut found = Foreign::default();
    let mut names: BTreeMap<TableName, Vec<String>> = BTreeMap::new();
    for chain in &chains {
        let Some(hook) = chain.hook else { continue };
        let table = (chain.family, chain.table.clone());
        kept.fill(transport, &table, &chain.name)?;
        found.held.untracks |= kept.untracks(&table);
        let reached = kept.reached(&table, &chain.name);
        names.entry(table.clone()).or_default().extend(reached);
        let Some(direction) = direction(chain) else { continue };
        let entrance = Entrance {
            direction,
            family: family(chain.family),
            chain: name(&tables, &table, &chain.name),
            passes: chain.policy != Some(0),
        };
        at.push((hook.priority, entrance));
    }
    for (table, chains) in &names {
        let name = |chain: &str| name(&tables, table, chain);
        let reader = Reader { others: &kept, table, name: &name, links: &links };
        for chain in chains {
            let rows = kept.rules(table, chain).iter().map(|it| reader.row(it)).collect();
            found.held.chains.insert(name(chain), rows);
        }
    }
    // All of them must let a packet pass. Of two at the same priority the one that came later is asked first
    // (nf_hook_entries_grow in net/netfilter/core.c); of two tables the kernel does not tell which that is, but mostly it
    // is the one that it names last. It only decides whether what is kept out hears an answer.
    at.reverse();
    at.sort_by_key(|it| it.0);
    found.held.entrances = at.into_iter().map(|it| it.1).collect();
    found.held.places = places(&kept);
    found.held.ports = ports(&kept);
    found.unread = older();
    found.beside = beside(&chains, &tables, &found.held);
    let decides = |it: &OtherTable| {
        let of_it = |chain: &&Chain| chain.table == it.name && sees(chain.family) == it.family;
        chains.iter().filter(of_it).any(|it| direction(it).is_some())
    };
    found.tables = tables
        .iter()
        .map(|it| Table {
            name: it.name.clone(),
            sees: it.family,
            family: number(it.family),
            rules: it.rules,
            decides: decides(it),
            leads: it.leads,
        })
        .collect();
    Ok(found)
}

fn family(number: u8) -> Option<Family> {
    match number {
        FAMILY_IPV4 => Some(Family::V4),
        FAMILY_IPV6 => Some(Family::V6),
        _ => None,
    }
}

fn sees(number: u8) -> Sees {
    match number {
        FAMILY_INET => Sees::Both,
        FAMILY_IPV4 => Sees::V4,
        FAMILY_IPV6 => Sees::V6,
        _ => Sees::Others,
    }
}

/// The number of what sees such packets.
fn number(sees: Sees) -> u8 {
    match sees {
        Sees::Both => FAMILY_INET,
        Sees::V4 => FAMILY_IPV4,
        Sees::V6 => FAMILY_IPV6,
        Sees::Interface => FAMILY_NETDEV,
        Sees::Bridged => FAMILY_BRIDGE,
        Sees::Others => 0,
    }
}

/// What a chain is called: by its table, and where several tables have that name, by what this one sees.
fn name(tables: &[OtherTable], (family, table): &TableName, chain: &str) -> String {
    let several = tables.iter().filter(|it| it.name == *table).count() > 1;
    let version = match sees(*family) {
        Sees::V4 if several => " of IPv4",
        Sees::V6 if several => " of IPv6",
        _ => "",
    };
    // No two are called alike, whatever their owners call them.
    let plain =
        |it: &str| it.replace('\\', "\\\\").replace('/', "\\/").replace(" of IPv", " \\of IPv");
    format!("{}{version}/{}", plain(table), plain(chain))
}

/// Sets of addresses to which their owners gave names; those without are called by a number behind two underscores.
fn places(kept: &Others) -> Vec<(String, AddressSet)> {
    let mut found: Vec<(String, AddressSet)> = Vec::new();
    for (name, held) in kept.sets().filter(|it| !it.0.starts_with("__")) {
        let set = match held.set.key_length {
            4 => single(held).and_then(|it| set_of(&it)).map(|v4| (v4, RangeSet::empty())),
            16 => single(held).and_then(|it| set_of(&it)).map(|v6| (RangeSet::empty(), v6)),
            _ => None,
        };
        found.extend(set.map(|(v4, v6)| (name.to_owned(), AddressSet { v4, v6 })));
    }
    found.sort_by(|a, b| a.0.cmp(&b.0));
    found
}

/// Likewise sets of what may be ports.
fn ports(kept: &Others) -> Vec<(String, RangeSet<u16>)> {
    let named = kept.sets().filter(|it| !it.0.starts_with("__") && it.1.set.key_length == 2);
    let mut found: Vec<(String, RangeSet<u16>)> =
        named.filter_map(|(name, held)| Some((name.to_owned(), set_of(&single(held)?)?))).collect();
    found.sort_by(|a, b| a.0.cmp(&b.0));
    found
}

/// Chains that keep packets out, or may, where no policy does.
fn beside(chains: &[Chain], tables: &[OtherTable], held: &Held) -> Vec<Beside> {
    let mut found = Vec::new();
    for table in tables {
        for chain in &table.chains {
            let here = chains.iter().find(|it| {
                it.name == chain.name && it.table == table.name && sees(it.family) == table.family
            });
            if here.is_some_and(|it| direction(it).is_some()) {
                continue;
            }
            let known = here.map(|it| name(tables, &(it.family, it.table.clone()), &it.name));
            let sure = match &known {
                Some(known) => chain.drops || held.does(known, keeps_out),
                None => table.denies == Denies::Can,
            };
            let perhaps = match &known {
                Some(known) => held.does(known, |it| matches!(it, Then::Unknown(_))),
                None => table.denies == Denies::Perhaps,
            };
            if sure || perhaps {
                let chain_name = known.unwrap_or_else(|| format!("{}/{}", table.name, chain.name));
                found.push(Beside { chain: chain_name, hook: chain.hook.clone(), sure });
            }
        }
    }
    found
}

fn keeps_out(then: &Then) -> bool {
    matches!(then, Then::Deny | Then::Reject)
}

#[cfg(test)]
mod tests {
    use super::{FAMILY_INET, name};

    #[test]
    fn no_two_chains_are_called_alike() {
        let of = |table: &str, chain: &str| name(&[], &(FAMILY_INET, table.into()), chain);
        let all =
            [of("a", "b/c"), of("a/b", "c"), of("a\\", "b/c"), of("a", "\\/b/c"), of("a/", "b")];
        for (at, one) in all.iter().enumerate() {
            assert!(!all[at + 1..].contains(one), "{all:?}");
        }
        assert_eq!(of("sieve", "arrivals"), "sieve/arrivals");
    }
}
