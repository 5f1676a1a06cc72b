//! What this machine shows, held against its policy.

mod files;

use super::programs::{Names, Receivers};
use super::session::Session;
use super::way::way;
use super::{Failure, Loaded};
use std::collections::BTreeSet;
use std::fs;
use tipstaff_core::analysis::{
    self, Contact, Facts, Finding, Listener, RoutingMark, odd_interface,
};
use tipstaff_core::plan::RuleId;
use tipstaff_linux::ruleset;
use tipstaff_linux::sockets::{self, connections, listeners};
use tipstaff_linux::{NetlinkSocket, Protocol, mark_rules};

/// Findings about this machine, and about the session that asks.
///
/// # Errors
/// [`Failure`] if the listeners cannot be listed.
pub fn findings(loaded: &Loaded) -> Result<Vec<Finding>, Failure> {
    Ok(analysis::review_machine(&loaded.policy, &loaded.plan, &facts(loaded)?))
}

/// What is odd about interfaces that rules name, as sentences, each about the first rule that does.
pub fn odd_interfaces(loaded: &Loaded) -> Vec<String> {
    let odd = loaded.placed.iter().filter_map(|it| Some((it, odd_interface(it)?)));
    odd.map(|(it, words)| format!("`{}` {words}", it.rule)).collect()
}

/// What is known of this machine, as far as findings need it.
fn facts(loaded: &Loaded) -> Result<Facts, Failure> {
    let mut socket = NetlinkSocket::open(Protocol::SocketDiagnosis)?;
    let names = Names::of(loaded);
    let listeners = listeners(&mut socket)?.iter().map(|it| listener(&names, it)).collect();
    let contacts = connections(&mut socket)?
        .into_iter()
        .map(|it| Contact { protocol: it.protocol, port: it.own.port(), peer: it.peer.ip() })
        .collect();
    let session = Session::own()
        .filter(|it| !it.client.is_loopback())
        .map(|it| way(&it, Receivers::look(loaded).ok().as_ref()));
    let active = loaded.plan.decisions().map(|it| it.1).filter(|it| it.idle.is_none());
    let named = active.flat_map(|it| &it.conditions).flat_map(|it| &it.programs);
    // Many rules may name one program; to look at it means to look at every process.
    let named: BTreeSet<&String> = named.collect();
    let files = named.into_iter().map(|path| (path.clone(), files::look(path))).collect();
    let switch = fs::read_to_string("/proc/sys/net/ipv4/tcp_fwmark_accept");
    Ok(Facts {
        listeners,
        contacts,
        session,
        files,
        placed: loaded.placed.clone(),
        crowded: crowded(loaded),
        routing: if loaded.plan.decisions().any(|it| it.1.names_programs()) {
            routing()
        } else {
            Vec::new()
        },
        marked_by_packets: switch.is_ok_and(|it| it.trim() != "0"),
    })
}

fn listener(names: &Names, it: &sockets::Listener) -> Listener {
    let program = it.owner.as_ref().and_then(|owner| owner.program.as_ref());
    Listener {
        protocol: it.protocol,
        port: it.port,
        address: it.address,
        pid: it.owner.as_ref().map(|owner| owner.pid),
        program: program.map(|it| it.display().to_string()),
        known: names.known(it.owner.as_ref()),
    }
}

/// Rates that had no room for some senders; none where the kernel's rules cannot be read or are another
/// host's.
fn crowded(loaded: &Loaded) -> Vec<(RuleId, u64)> {
    let held = NetlinkSocket::open(Protocol::Netfilter).and_then(|mut it| ruleset::read(&mut it));
    let held = held.ok().flatten().filter(|it| it.host == loaded.plan.host);
    let tallies = held.map(|it| it.tallies).unwrap_or_default();
    tallies.into_iter().filter_map(|it| Some((it.id, it.crowded?.packets))).collect()
}

fn routing() -> Vec<RoutingMark> {
    let rules = NetlinkSocket::open(Protocol::Route).and_then(|mut it| mark_rules(&mut it));
    rules
        .unwrap_or_default()
        .into_iter()
        .map(|it| RoutingMark { mark: it.mark, mask: it.mask, v6: it.v6, priority: it.priority })
        .collect()
}
