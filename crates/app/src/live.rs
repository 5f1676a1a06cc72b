//! What this machine shows, held against its policy.

use super::led::Ways;
use super::reach::senders::columns;
use super::receivers::{Names, Receivers};
use super::uses::uses;
use super::way::way;
use super::{Failure, Loaded};
use std::collections::BTreeSet;
use tipstaff_core::analysis::{
    self, Contact, Facts, Finding, Listener, Published, RoutingMark, odd_interface,
};
use tipstaff_core::plan::{Condition, RuleId};
use tipstaff_linux::{Listed, Machine, sockets};

/// Whether sockets take the marks of packets that open them.
pub(crate) const ANSWERS_TAKE_MARKS: &str = "/proc/sys/net/ipv4/tcp_fwmark_accept";

/// What is found about a machine.
pub(crate) struct Findings {
    /// What does not go together.
    pub found: Vec<Finding>,
    /// What could not be looked at, as parts of a list.
    pub unknown: Vec<String>,
}

/// Findings about this machine, and about the session that asks.
///
/// # Errors
/// [`Failure`] if the listeners cannot be listed.
pub(crate) fn findings(machine: &dyn Machine, loaded: &Loaded) -> Result<Findings, Failure> {
    let listed = machine.listeners()?;
    let mut unknown: Vec<String> = listed.unseen().collect();
    let now = u64::try_from(loaded.now.seconds()).unwrap_or_default();
    let uses = uses(machine, loaded, now);
    unknown.extend(uses.unknown);
    let published = match openings(machine, loaded) {
        Ok(published) => published,
        Err(failure) => {
            unknown.push(format!("where others lead packets elsewhere: {}", failure.line()));
            Vec::new()
        }
    };
    let facts = Facts { uses: uses.list, published, ..facts(machine, loaded, &listed)? };
    let found = analysis::review_machine(&loaded.policy, &loaded.plan, &facts);
    Ok(Findings { found, unknown })
}

/// What is odd about interfaces that rules name, as sentences, each about the first rule that does.
pub(crate) fn odd_interfaces(loaded: &Loaded) -> Vec<String> {
    let odd = loaded.placed.iter().filter_map(|it| Some((it, odd_interface(it)?)));
    odd.map(|(it, words)| format!("`{}` {words}", it.rule)).collect()
}

/// What is known of this machine, as far as findings need it.
fn facts(
    machine: &dyn Machine,
    loaded: &Loaded,
    listed: &Listed<sockets::Listener>,
) -> Result<Facts, Failure> {
    let names = Names::of(machine, loaded);
    let listeners = listed.found.iter().map(|it| listener(&names, it)).collect();
    let contacts = machine
        .connections()?
        .found
        .into_iter()
        .map(|it| Contact { protocol: it.protocol, port: it.own.port(), peer: it.peer.ip() })
        .collect();
    let session = machine
        .own_session()
        .filter(|it| !it.client.is_loopback())
        .map(|it| way(machine, &it, Receivers::look(machine, loaded).ok().as_ref()));
    let active = loaded.plan.decisions().map(|it| it.1).filter(|it| it.idle.is_none());
    let conditions: Vec<&Condition> = active.flat_map(|it| &it.conditions).collect();
    // Who cannot be looked up is not said to be missing.
    let named: BTreeSet<&String> = conditions.iter().flat_map(|it| &it.users).collect();
    let looked_up = named.into_iter().filter_map(|it| Some((it, machine.user_number(it).ok()?)));
    let users = looked_up.map(|(name, number)| (name.clone(), number)).collect();
    let named = conditions.iter().flat_map(|it| &it.programs);
    // Many rules may name one program; to look at it means to look at every process.
    let named: BTreeSet<&String> = named.collect();
    let files = named.into_iter().map(|path| (path.clone(), machine.program_file(path))).collect();
    let switch = machine.setting(ANSWERS_TAKE_MARKS);
    Ok(Facts {
        listeners,
        published: Vec::new(),
        unlisted: listed.unlisted.iter().map(|it| it.0).collect(),
        contacts,
        session,
        files,
        users,
        placed: loaded.placed.clone(),
        crowded: crowded(machine, loaded),
        routing: if loaded.plan.decisions().any(|it| it.1.names_owners()) {
            routing(machine)
        } else {
            Vec::new()
        },
        marked_by_packets: switch.is_ok_and(|it| it.trim() != "0"),
        uses: Vec::new(),
    })
}

/// Where others lead ports of this machine, and what becomes of packets there.
fn openings(machine: &dyn Machine, loaded: &Loaded) -> Result<Vec<Published>, Failure> {
    let ways = Ways::of(machine)?;
    let columns = columns(&loaded.policy, &[])?;
    let senders: Vec<_> = columns.iter().map(|it| &it.senders).collect();
    Ok(ways.openings(loaded, &senders))
}

fn listener(names: &Names, it: &sockets::Listener) -> Listener {
    let program = it.owner.as_ref().and_then(|owner| owner.program.as_ref());
    let whose = names.of_listener(it);
    Listener {
        protocol: it.protocol,
        port: it.port,
        address: it.address,
        pid: it.owner.as_ref().map(|owner| owner.pid),
        program: program.map(|it| it.display().to_string()),
        uid: Some(names.user_of(&whose, it.uid)),
        known: whose.program,
    }
}

/// Rates that had no room for some senders; none where the kernel's rules cannot be read or are another
/// host's.
fn crowded(machine: &dyn Machine, loaded: &Loaded) -> Vec<(RuleId, u64)> {
    let held = machine.rules().ok().flatten().filter(|it| it.host == loaded.plan.host);
    let tallies = held.map(|it| it.tallies).unwrap_or_default();
    tallies.into_iter().filter_map(|it| Some((it.id, it.crowded?.packets))).collect()
}

fn routing(machine: &dyn Machine) -> Vec<RoutingMark> {
    machine
        .mark_rules()
        .unwrap_or_default()
        .into_iter()
        .map(|it| RoutingMark { mark: it.mark, mask: it.mask, v6: it.v6, priority: it.priority })
        .collect()
}
