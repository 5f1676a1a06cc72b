//! `draft`: a first policy from what this machine does now.

mod recorded;
mod tunnel;

use super::Failure;
use recorded::{Came, recorded};
use serde::Serialize;
use std::collections::BTreeMap;
use std::net::IpAddr;
use tipstaff_core::draft::{Contact, Facts, Link, Listener, draft};
use tipstaff_linux::Machine;
use tipstaff_linux::sockets::PortProtocol;

/// UDP, as flows name it (RFC 768).
const UDP: u8 = 17;
/// Where the kernel tells whether it forwards packets (ip-sysctl).
pub const FORWARDING: [&str; 2] =
    ["/proc/sys/net/ipv4/ip_forward", "/proc/sys/net/ipv6/conf/all/forwarding"];

/// A first policy for a machine as it stands.
#[derive(Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Report {
    /// The text of the policy, ready to be saved.
    pub policy: String,
    /// What could not be seen, in words.
    pub unseen: Vec<String>,
}

/// What a draft is to be like.
#[derive(Clone, Copy, Debug, Default)]
pub struct Wanted<'w> {
    /// The name of the host; this machine's if left out.
    pub host: Option<&'w str>,
    /// Whether rules are for the programs that listen now.
    pub by_program: bool,
    /// The interface of a tunnel that is to be the only way out in a posture.
    pub tunnel: Option<&'w str>,
    /// The tunnel's far end, and what goes there, where that is not to be found out.
    pub endpoint: Option<(IpAddr, &'w str)>,
    /// Whether whoever came, as long as that is remembered, stays admitted, not only who is connected.
    pub from_record: bool,
}

/// Drafts a policy for a machine.
///
/// # Errors
/// [`Failure`] if links or sockets cannot be listed, or nothing is remembered of who came.
pub fn report(machine: &dyn Machine, wanted: &Wanted<'_>) -> Result<Report, Failure> {
    let listed = machine.listeners()?;
    let mut unseen: Vec<String> = listed.unseen().collect();
    let listening = listed.found;
    if listening.iter().any(|listener| listener.owner.is_none()) {
        unseen.push("some programs, which the system shows to root only".into());
    }
    let mut contacts: Vec<Contact> = machine
        .connections()?
        .found
        .into_iter()
        .map(|it| Contact { protocol: it.protocol, port: it.own.port(), peer: it.peer.ip() })
        .collect();
    let links = machine.links()?;
    // A UDP service has no connections of its own, but the kernel may keep track of its flows.
    match machine.flows() {
        Ok(flows) => {
            let own = |it| links.iter().flat_map(|link| &link.addresses).any(|own| own.0 == it);
            let here = flows.iter().filter(|it| it.protocol == UDP && own(it.destination));
            contacts.extend(here.filter_map(|it| {
                Some(Contact { protocol: PortProtocol::Udp, port: it.ports?.1, peer: it.source })
            }));
        }
        Err(_) => unseen.push("who uses UDP services, which the system shows to root only".into()),
    }
    let tunnel = match wanted.tunnel {
        Some(link) => Some(tunnel::tunnel(machine, link, wanted.endpoint)?),
        None => None,
    };
    let came = match wanted.from_record {
        true => recorded(machine)?,
        false => Came::default(),
    };
    unseen.extend(came.unseen);
    let hears =
        |it: &Contact| listening.iter().any(|at| (at.protocol, at.port) == (it.protocol, it.port));
    let (served, others): (Vec<Contact>, Vec<Contact>) = came.contacts.into_iter().partition(hears);
    contacts.extend(served);
    let mut nobody_there: BTreeMap<(u16, PortProtocol), usize> = BTreeMap::new();
    for it in others {
        *nobody_there.entry((it.port, it.protocol)).or_default() += 1;
    }
    let name = machine.name();
    let on = |path: &&str| machine.setting(path).is_ok_and(|it| it.trim() == "1");
    let facts = Facts {
        host: wanted
            .host
            .map_or_else(|| name.split('.').next().unwrap_or_default().to_owned(), Into::into),
        links: links
            .into_iter()
            .map(|it| Link { name: it.name, addresses: it.addresses, lent: it.lent })
            .collect(),
        forwards: FORWARDING.iter().any(on),
        listeners: listening
            .into_iter()
            .map(|it| Listener {
                protocol: it.protocol,
                port: it.port,
                address: it.address,
                program: it.owner.and_then(|it| it.program).map(|it| {
                    // One that was upgraded meanwhile is known by its path all the same.
                    let path = it.display().to_string();
                    path.strip_suffix(" (deleted)").map_or(path.clone(), str::to_owned)
                }),
            })
            .collect(),
        contacts,
        remembered: wanted.from_record.then_some(came.seconds),
        nobody_there: nobody_there.into_iter().map(|(at, count)| (at.0, at.1, count)).collect(),
        session: machine.own_session().map(|it| (it.client, it.port)),
        by_program: wanted.by_program,
        tunnel,
        unseen: unseen.clone(),
    };
    Ok(Report { policy: draft(&facts), unseen })
}
