//! Ports at which nobody listens, and which others lead elsewhere.

use super::planned::Planned;
use super::senders::Column;
use super::verdicts::{Of, Wanted, parts};
use super::words::{Entry, From, Part};
use crate::led::Published;
use crate::vocabulary as say;
use std::collections::{BTreeSet, HashMap};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use tipstaff_core::space::Family;
use tipstaff_linux::Machine;
use tipstaff_linux::ruleset::Whose;
use tipstaff_linux::sockets::{Listener, PortProtocol};

/// An entry for each such port, or ports that are led alike.
pub(super) fn entries(
    of: Of<'_>,
    columns: &[Column],
    listeners: &[Listener],
    planned: &mut Planned,
) -> Vec<Entry> {
    let (loaded, _, ways) = of;
    let senders: Vec<_> = columns.iter().map(|it| &it.senders).collect();
    let mut entries = Vec::new();
    for published in ways.published(loaded, &senders) {
        // What a listener hears of it, its own entry says.
        let heard = |it: &Listener| {
            it.protocol == published.protocol
                && published.ports == (it.port..=it.port)
                && !it.address.is_loopback()
        };
        if listeners.iter().any(heard) {
            continue;
        }
        let entry = entry(of, columns, &published, planned);
        if !entry.from.is_empty() {
            planned.next_listener();
            entries.push(entry);
        }
    }
    entries
}

fn entry(
    (loaded, kernel, ways): Of<'_>,
    columns: &[Column],
    published: &Published,
    planned: &mut Planned,
) -> Entry {
    let (first, last) = (*published.ports.start(), *published.ports.end());
    let wanted = Wanted::port(published.protocol, first, Whose::default());
    let (mut from, mut versions) = (Vec::new(), Vec::new());
    for column in columns {
        for family in Family::BOTH {
            if !column.senders.has(family) {
                continue;
            }
            let mut parts = parts(&wanted, family, loaded, kernel, ways, &column.senders);
            // Whoever is led nowhere meets nobody here.
            parts.retain(|it| it.fate.led.is_some());
            if parts.is_empty() {
                continue;
            }
            planned.plan_port(published.protocol, first, column, &parts, from.len());
            let words = parts.iter().map(|it| {
                let mut words = it.words(&loaded.plan, column);
                if published.to_its_own && first != last {
                    // Each port leads to its own.
                    let own = |to: String| match to.strip_suffix(&format!(":{first}")) {
                        Some(address) => format!("{address}:{first}-{last}"),
                        None => to,
                    };
                    words.led_to = words.led_to.map(own);
                }
                words
            });
            let words = words.collect();
            from.push(From::of(column.name.clone(), family.into(), words));
            if !versions.contains(&family) {
                versions.push(family);
            }
        }
    }
    let address: IpAddr = match versions[..] {
        [Family::V4] => Ipv4Addr::UNSPECIFIED.into(),
        _ => Ipv6Addr::UNSPECIFIED.into(),
    };
    let meanings = loaded.policy.meanings(published.protocol, first, last);
    Entry {
        protocol: published.protocol.into(),
        address: address.to_string(),
        port: first,
        meanings: meanings.into_iter().map(str::to_owned).collect(),
        versions: versions.into_iter().map(Into::into).collect(),
        program: None,
        taken_for: None,
        pid: None,
        user: String::new(),
        published: Some(if first == last { first.to_string() } else { format!("{first}-{last}") }),
        came: None,
        from,
    }
}

/// Names who waits where ports are led, as far as that is on this machine.
pub(super) fn name_who_waits(machine: &dyn Machine, entries: &mut [Entry]) {
    let end = |protocol: say::PortProtocol, part: &Part| {
        let protocol = PortProtocol::parse(protocol.as_str())?;
        Some((protocol, part.led_to.as_ref()?.parse::<SocketAddr>().ok()?))
    };
    let mut wanted = BTreeSet::new();
    for entry in &*entries {
        let parts = entry.from.iter().flat_map(|it| &it.parts);
        wanted.extend(parts.filter_map(|it| end(entry.protocol, it)));
    }
    if wanted.is_empty() {
        return;
    }
    let wanted: Vec<_> = wanted.into_iter().collect();
    let found = machine.waiting_within(&wanted);
    let known: HashMap<_, _> = wanted.into_iter().zip(found).collect();
    for entry in entries {
        for part in entry.from.iter_mut().flat_map(|it| &mut it.parts) {
            let owner = end(entry.protocol, part).and_then(|it| known.get(&it)?.as_ref());
            part.led_to_pid = owner.map(|it| it.pid);
            let program = owner.and_then(|it| it.program.as_ref());
            part.led_to_program = program.map(|it| it.display().to_string());
        }
    }
}
